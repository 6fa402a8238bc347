using System.Text;
using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Files;

public sealed class FileNameTests
{
    [Fact]
    public void Names_are_bytes_and_text_only_where_they_say_the_same()
    {
        FileName.Of("lantern"u8).ShouldBe(new FileName("lantern"));
        FileName.Of("Plan für Ebb"u8).Bytes.ShouldBeNull();
        byte[] odd = [0x63, 0x61, 0x66, 0xe9];
        var name = FileName.Of(odd);
        name.Text.ShouldBe("caf\ufffd");
        name.ToBytes().ShouldBe(odd);
        name.ShouldBe(FileName.Of(odd));
        name.ShouldNotBe(FileName.Of([0x63, 0x61, 0x66, 0xe8]));
        new FileName("/srv").In(name).ToBytes().ShouldBe([.. "/srv/"u8, .. odd]);
        new FileName("/srv").In(name).Last().ShouldBe(name);
        new FileName("/").In(new FileName("srv")).Text.ShouldBe("/srv");
        new FileName("/srv/").In(name).ToBytes().ShouldBe([.. "/srv/"u8, .. odd]);
        new FileName("/srv/board/").Last().Text.ShouldBe("board");
        new FileName("/").Last().Text.ShouldBe("/");
    }

    [Theory]
    [InlineData("", "is empty")]
    [InlineData("var/log", "no whole path")]
    [InlineData("/var\0/log", "zero byte")]
    public void What_is_no_path_is_said(string path, string why) => new FileName(path).CheckPath().ShouldNotBeNull().ShouldContain(why);

    [Fact]
    public void Paths_are_as_long_as_the_system_takes()
    {
        new FileName("/" + new string('x', FileName.MostBytes - 1)).CheckPath().ShouldBeNull();
        new FileName("/" + new string('x', FileName.MostBytes)).CheckPath().ShouldNotBeNull().ShouldContain("4095 bytes");
        new FileName("/caf\ufffd", [.. "/caf"u8, 0xe9]).CheckPath().ShouldBeNull();
        new FileName("/x", [.. Encoding.UTF8.GetBytes("x")]).CheckPath().ShouldNotBeNull().ShouldContain("no whole path");
    }

    [Theory]
    [InlineData(FileKind.File, 0b110_100_100, "-rw-r--r--")]
    [InlineData(FileKind.Folder, 0b1_111_111_111, "drwxrwxrwt")]
    [InlineData(FileKind.File, 0b100_111_101_101, "-rwsr-xr-x")]
    [InlineData(FileKind.File, 0b010_110_000_000, "-rw---S---")]
    [InlineData(FileKind.Link, 0b111_111_111, "lrwxrwxrwx")]
    [InlineData(FileKind.Pipe, 0b1_110_000_110, "prw----rwT")]
    public void Modes_read_as_people_know_them(FileKind kind, int mode, string text) =>
        new FileEntry(new FileName("x"), kind, 0, mode, "root", "root", default).ModeText().ShouldBe(text);

    [Theory]
    [InlineData("/a/b", "/a", "b")]
    [InlineData("/a", "/", "a")]
    [InlineData("/a/b/", "/a", "b")]
    [InlineData("/", "/", "/")]
    public void A_path_is_its_folder_and_its_last_name(string path, string folder, string last)
    {
        new FileName(path).Folder().Text.ShouldBe(folder);
        new FileName(path).Last().Text.ShouldBe(last);
    }

    [Fact]
    public void A_folder_of_bytes_stays_one()
    {
        var path = FileName.Of([0x2f, 0xe9, 0x2f, 0x61]);
        path.Folder().ToBytes().ShouldBe([0x2f, 0xe9]);
        path.Last().ShouldBe(new FileName("a"));
    }

    [Fact]
    public void Some_words_are_no_name_of_something()
    {
        foreach (var name in (string[])["", ".", "..", "a/b", "a\0b", new string('n', 256)])
        {
            new FileName(name).IsPlainName().ShouldBeFalse(name);
        }
        foreach (var name in (string[])["a", "...", ".a", "a\nb", new string('n', 255)])
        {
            new FileName(name).IsPlainName().ShouldBeTrue(name);
        }
    }

    [Theory]
    [InlineData("a", true)]
    [InlineData("a/b c/..d", true)]
    [InlineData("", false)]
    [InlineData("/a", false)]
    [InlineData("a/", false)]
    [InlineData("a//b", false)]
    [InlineData("../a", false)]
    [InlineData("a/..", false)]
    [InlineData("a/./b", false)]
    public void A_path_below_a_folder_leads_out_of_nothing(string path, bool isPlain) => Assert.Equal(isPlain, new FileName(path).IsPlainPath());
}
