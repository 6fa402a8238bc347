using System.Buffers.Binary;
using System.Formats.Tar;
using System.IO.Compression;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>Archives are made and unpacked on this machine, good ones and ill-meant ones.</summary>
public sealed class ArchiveTests : IAsyncLifetime
{
    private FileLine line = null!;

    public async ValueTask InitializeAsync()
    {
        line = await FileLine.OpenAsync();
        line.Begin(changes: true);
    }

    public ValueTask DisposeAsync() => line.DisposeAsync();

    private FileName At(string name) => line.At(name);

    private string In(string name) => line.Directory.In(name);

    private async Task<(FileWord End, List<string> Problems)> DoAsync(FileChange change)
    {
        var (words, _) = await line.AskAsync(new FileAsk(Change: change));
        return (words[^1], [.. words.Where(w => w.Problem is not null).Select(w => w.Problem!)]);
    }

    private Task<(FileWord End, List<string> Problems)> PackAsync(string to, params string[] names) => DoAsync(new FileChange(Pack: new FilePack([.. names.Select(At)], At(to))));

    private Task<(FileWord End, List<string> Problems)> UnpackAsync(string archive, string to, Existing existing = Existing.Keep, bool large = false) =>
        DoAsync(new FileChange(Unpack: new FileUnpack(At(archive), At(to), existing, large)));

    private string[] Below(string folder) => [.. Directory.EnumerateFileSystemEntries(In(folder), "*", SearchOption.AllDirectories).Select(f => f[(In(folder).Length + 1)..]).Order(StringComparer.Ordinal)];

    [Theory]
    [InlineData("zip")]
    [InlineData("tar")]
    [InlineData("tar.gz")]
    [InlineData("tgz")]
    public async Task What_is_packed_comes_out_as_it_was(string ending)
    {
        line.Run("""
            mkdir -p tree/deep/empty; head -c 900000 /dev/urandom >tree/deep/noise; printf 'ripening\n' >tree/note; : >tree/nothing; chmod 640 tree/note; chmod 700 tree/deep
            ln -s ../note tree/deep/link; ln -s /nowhere tree/astray; printf x >"tree/plum & Käse.txt"; printf y >"tree/$(printf 'two\nlines')"; touch -d 2023-04-05T06:07:08Z tree/note; mkfifo tree/pipe; printf z >other
            """);
        var (end, problems) = await PackAsync($"all.{ending}", "tree", "other");
        problems.ShouldBe([$"{In("tree/pipe")} is a pipe, which has no content to be packed."]);
        end.Count.ShouldBe(11);
        (end, problems) = await UnpackAsync($"all.{ending}", "out");
        problems.ShouldBeEmpty();
        end.Count.ShouldBe(11);
        line.Run("rm tree/pipe; diff -r --no-dereference tree out/tree; diff other out/other");
        (File.GetUnixFileMode(In("out/tree/note")), File.GetUnixFileMode(In("out/tree/deep"))).ShouldBe(((UnixFileMode)0x1a0, (UnixFileMode)0x1c0));
        if (ending != "zip")
        {
            // A ZIP knows of no time zone.
            File.GetLastWriteTimeUtc(In("out/tree/note")).ShouldBe(new DateTime(2023, 4, 5, 6, 7, 8, DateTimeKind.Utc));
        }
        new FileInfo(In("out/tree/deep/link")).LinkTarget.ShouldBe("../note");
        (await line.ToldAsync()).Select(r => (r.Deed, r.Files)).ShouldBe([(FileDeed.Pack, 11), (FileDeed.Unpack, 11)]);
        Directory.GetFiles(line.Directory.Path, "*.part", SearchOption.AllDirectories).ShouldBeEmpty();
    }

    [Fact]
    public async Task Other_programs_archives_are_unpacked_hard_links_too()
    {
        line.Run("mkdir from; printf one >from/one; ln from/one from/two; tar czf usual.tar.gz from; mkfifo from/pipe; tar cf old.tar --format=ustar from");
        (await UnpackAsync("usual.tar.gz", "out")).Problems.ShouldBeEmpty();
        (await File.ReadAllTextAsync(In("out/from/one")), await File.ReadAllTextAsync(In("out/from/two"))).ShouldBe(("one", "one"));
        (await UnpackAsync("old.tar", "old")).Problems.ShouldBe([$"{In("old/from/pipe")} is encrypted in it, or neither file, folder nor link; it was left out."]);
    }

    [Fact]
    public async Task No_name_in_it_leads_out_of_the_folder()
    {
        await using (var tar = new TarWriter(File.Create(In("evil.tar"))))
        {
            foreach (var name in (string[])["../up", "/tmp/abs", "a/../../b", "fine", "..", "x/../y"])
            {
                await tar.WriteEntryAsync(new PaxTarEntry(TarEntryType.RegularFile, name) { DataStream = new MemoryStream("bad"u8.ToArray()) });
            }
        }
        await using (var zip = await ZipFile.OpenAsync(In("evil.zip"), ZipArchiveMode.Create))
        {
            foreach (var name in (string[])["../up", "/tmp/abs", "a/../../b", "fine"])
            {
                await using var to = await zip.CreateEntry(name).OpenAsync();
                await to.WriteAsync("bad"u8.ToArray());
            }
        }
        foreach (var (archive, count) in (IEnumerable<(string, int)>)[("evil.tar", 5), ("evil.zip", 3)])
        {
            var (end, problems) = await UnpackAsync(archive, "out/" + archive);
            (problems.Count, end.Count).ShouldBe((count, 1), string.Join('\n', problems));
            problems.ShouldAllBe(p => p.Contains("leads out of the folder", StringComparison.Ordinal));
            Below("out/" + archive).ShouldBe(["fine"]);
        }
        Below("out").ShouldBe(["evil.tar", "evil.tar/fine", "evil.zip", "evil.zip/fine"]);
    }

    [Fact]
    public async Task Nothing_is_written_through_a_link_that_came_with_it_or_lay_there()
    {
        Directory.CreateDirectory(In("outside"));
        await using (var tar = new TarWriter(File.Create(In("first.tar"))))
        {
            await tar.WriteEntryAsync(new PaxTarEntry(TarEntryType.SymbolicLink, "way") { LinkName = In("outside") });
            await tar.WriteEntryAsync(new PaxTarEntry(TarEntryType.RegularFile, "way/in") { DataStream = new MemoryStream("bad"u8.ToArray()) });
            await tar.WriteEntryAsync(new PaxTarEntry(TarEntryType.SymbolicLink, "file") { LinkName = In("outside/file") });
            await tar.WriteEntryAsync(new PaxTarEntry(TarEntryType.RegularFile, "file") { DataStream = new MemoryStream("bad"u8.ToArray()) });
            await tar.WriteEntryAsync(new PaxTarEntry(TarEntryType.HardLink, "stolen") { LinkName = "../secret" });
        }
        await File.WriteAllTextAsync(In("secret"), "secret");
        // Links are made last: what is behind one in the archive makes a folder of that name, and the link is what is left out.
        var (_, problems) = await UnpackAsync("first.tar", "out");
        problems.Count.ShouldBe(3, string.Join('\n', problems));
        (new FileInfo(In("out/way")).LinkTarget, await File.ReadAllTextAsync(In("out/way/in"))).ShouldBe((null, "bad"));
        File.Exists(In("out/stolen")).ShouldBeFalse();
        Directory.GetFileSystemEntries(In("outside")).ShouldBeEmpty();
        // A link that lies there already.
        Directory.CreateDirectory(In("laid"));
        File.CreateSymbolicLink(In("laid/way"), In("outside"));
        File.CreateSymbolicLink(In("laid/file"), In("outside/file"));
        (_, problems) = await UnpackAsync("first.tar", "laid", Existing.Replace);
        problems.ShouldContain($"{In("laid/way")} is a link here; nothing is unpacked through it.");
        problems.ShouldContain($"{In("laid/file")} is a link here; nothing is unpacked through it.");
        Directory.GetFileSystemEntries(In("outside")).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_bomb_is_not_unpacked()
    {
        // Says in its directory that a few bytes are four petabytes.
        await using (var zip = await ZipFile.OpenAsync(In("bomb.zip"), ZipArchiveMode.Create))
        {
            await using var to = await zip.CreateEntry("zeros", CompressionLevel.Fastest).OpenAsync();
            await to.WriteAsync(new byte[3_000_000]);
        }
        var bytes = await File.ReadAllBytesAsync(In("bomb.zip"));
        for (var i = 0; i < bytes.Length - 4; i++)
        {
            if (BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(i)) == 0x02014b50)
            {
                BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(i + 24), 0xfffffff0);
            }
        }
        await File.WriteAllBytesAsync(In("bomb.zip"), bytes);
        var (_, problems) = await UnpackAsync("bomb.zip", "out");
        problems.ShouldHaveSingleItem().ShouldContain("was not unpacked. It grows to");
        Below("out").ShouldBeEmpty();
        // Meant or not, more than it says does not come out.
        (_, problems) = await UnpackAsync("bomb.zip", "large", large: true);
        problems.ShouldHaveSingleItem();
        Directory.GetFiles(In("large"), "*", SearchOption.AllDirectories).ShouldBeEmpty();

        // More than a gigabyte of zeros in a few megabytes, and nothing says so before.
        line.Run("truncate -s 1200000000 zeros; tar c zeros | gzip -1 >bomb.tgz; rm zeros");
        (_, problems) = await UnpackAsync("bomb.tgz", "out");
        problems.ShouldHaveSingleItem().ShouldContain("more than 200 times its length");
        Below("out").ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_damaged_or_no_archive_is_said_and_what_came_before_stays()
    {
        line.Run("mkdir from; for i in 1 2 3; do head -c 300000 /dev/urandom >from/$i; done; tar cf whole.tar from; head -c 500000 whole.tar >cut.tar; gzip -k whole.tar; head -c 500000 whole.tar.gz >cut.tgz; printf hello >no.zip; printf hello >no.tgz; : >empty.zip");
        foreach (var archive in (string[])["no.zip", "no.tgz", "empty.zip"])
        {
            (await UnpackAsync(archive, "none")).Problems.ShouldHaveSingleItem().ShouldContain("can't be unpacked", Case.Insensitive, archive);
        }
        foreach (var archive in (string[])["cut.tar", "cut.tgz"])
        {
            var (_, problems) = await UnpackAsync(archive, archive + ".out");
            problems.ShouldNotBeEmpty(archive);
            Directory.GetFiles(In(archive + ".out"), "*", SearchOption.AllDirectories).Length.ShouldBe(1, archive);
        }
        // One byte of a stored content is another.
        await using (var zip = await ZipFile.OpenAsync(In("bit.zip"), ZipArchiveMode.Create))
        {
            await using var to = await zip.CreateEntry("note", CompressionLevel.NoCompression).OpenAsync();
            await to.WriteAsync(Encoding.UTF8.GetBytes("as it was written"));
        }
        var bytes = await File.ReadAllBytesAsync(In("bit.zip"));
        bytes[bytes.AsSpan().IndexOf("written"u8)] = (byte)'W';
        await File.WriteAllBytesAsync(In("bit.zip"), bytes);
        (await UnpackAsync("bit.zip", "bit")).Problems.ShouldBe([$"{In("bit/note")} is damaged in the archive."]);
        Directory.GetFileSystemEntries(In("bit")).ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_there_goes_by_what_was_said_and_archives_overwrite_nothing()
    {
        line.Run("mkdir from out; printf new >from/a; tar cf a.tar -C from a; printf older >out/a; touch -d 2020-01-01 out/a");
        (await UnpackAsync("a.tar", "out")).Problems.ShouldBe([$"{In("out/a")} is there already, and was kept."]);
        (await UnpackAsync("a.tar", "out", Existing.Rename)).Problems.ShouldBeEmpty();
        (await File.ReadAllTextAsync(In("out/a")), await File.ReadAllTextAsync(In("out/a (2)"))).ShouldBe(("older", "new"));
        (await UnpackAsync("a.tar", "out", Existing.ReplaceOlder)).Problems.ShouldBeEmpty();
        (await File.ReadAllTextAsync(In("out/a"))).ShouldBe("new");
        (await PackAsync("a.tar", "from")).Problems.ShouldBe([$"There is a {In("a.tar")} already; it is left as it is."]);
        (await PackAsync("from/self.zip", "from")).Problems.ShouldHaveSingleItem().ShouldContain("would be packed into itself");
        (await PackAsync("two.zip", "from/a", "out/a")).Problems.ShouldHaveSingleItem().ShouldContain("Two of what is to be packed are called a");
        (await PackAsync("none.zip", "none")).Problems.ShouldBe([$"There is no {In("none")} on this host."]);
        (await PackAsync("a.rar", "from")).Problems.ShouldHaveSingleItem().ShouldContain("it ends with .zip, .tar, .tar.gz or .tgz");
        Directory.GetFiles(line.Directory.Path, ".*").ShouldBeEmpty();
    }

    [Fact]
    public async Task Roots_hold_for_archives_too()
    {
        line.Run("mkdir in out; printf x >in/x; printf y >out/y; tar cf in/in.tar -C out y; tar cf out/out.tar -C out y");
        line.Begin(changes: true, roots: [In("in")]);
        (await UnpackAsync("in/in.tar", "out/here")).Problems.ShouldHaveSingleItem().ShouldContain("does not lie in what this host lets technicians into");
        (await UnpackAsync("out/out.tar", "in/here")).Problems.ShouldHaveSingleItem().ShouldContain("does not lie in what this host lets technicians into");
        (await PackAsync("in/all.zip", "out")).Problems.ShouldHaveSingleItem().ShouldContain("does not lie in what this host lets technicians into");
        (await PackAsync("out/all.zip", "in")).Problems.ShouldHaveSingleItem().ShouldContain("does not lie in what this host lets technicians into");
        (await UnpackAsync("in/in.tar", "in/here")).Problems.ShouldBeEmpty();
        (await File.ReadAllTextAsync(In("in/here/y"))).ShouldBe("y");
        Below("out").ShouldBe(["out.tar", "y"]);
    }
}
