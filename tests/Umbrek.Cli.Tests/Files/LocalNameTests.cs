using Umbrek.Cli.Files;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;

namespace Umbrek.Cli.Tests.Files;

public sealed class LocalNameTests
{
    [Theory]
    [InlineData("..")]
    [InlineData("../up")]
    [InlineData("a/../../b")]
    [InlineData("/etc/passwd")]
    [InlineData("a//b")]
    [InlineData("")]
    [InlineData("a/.")]
    public void No_name_that_a_host_says_leads_elsewhere(string name) =>
        Should.Throw<ClientException>(() => LocalName.Under("/tmp/tarn", new FileName(name))).Message.ShouldContain("outside of /tmp/tarn");

    [Fact]
    public void Bytes_that_are_no_text_are_written_out()
    {
        LocalName.Under("/tmp", FileName.Of([0x63, 0xe9, 0x2f, 0xff, 0xc3, 0xa9])).ShouldBe("/tmp/c%E9/%FFé");
        Should.Throw<ClientException>(() => LocalName.Under("/tmp", FileName.Of([0x2e, 0x2e, 0x2f, 0xff])));
        LocalName.Under("/tmp", new FileName("a/b c")).ShouldBe("/tmp/a/b c");
    }

    [Fact]
    public void A_part_has_a_name_of_its_own_for_each_host_file_and_version()
    {
        var (host, other) = (Guid.NewGuid(), Guid.NewGuid());
        string[] parts =
        [
            LocalName.PartOf("/tmp/log", host, new FileName("/var/log"), "1"), LocalName.PartOf("/tmp/log", host, new FileName("/var/log"), "2"),
            LocalName.PartOf("/tmp/log", host, new FileName("/srv/log"), "1"), LocalName.PartOf("/tmp/log", other, new FileName("/var/log"), "1"),
        ];
        parts.Distinct().Count().ShouldBe(4);
        parts.ShouldAllBe(p => Path.GetDirectoryName(p) == "/tmp" && Path.GetFileName(p).StartsWith(".log."));
        LocalName.PartOf("/tmp/log", host, new FileName("/var/log"), "1").ShouldBe(parts[0]);
        System.Text.Encoding.UTF8.GetByteCount(Path.GetFileName(LocalName.PartOf("/tmp/" + new string('ü', 127), host, new FileName("/x"), "1"))).ShouldBeLessThanOrEqualTo(255);
    }
}
