using Umbrek.Cli.Shell;

namespace Umbrek.Cli.Tests.Shell;

public sealed class KeyReaderTests
{
    private readonly KeyReader reader = new();

    private (string ForHost, string Own) Type(string keys)
    {
        var (forHost, own) = reader.Read(System.Text.Encoding.Latin1.GetBytes(keys));
        return (System.Text.Encoding.Latin1.GetString(forHost), string.Join(' ', own));
    }

    [Fact]
    public void Ordinary_keys_go_to_the_host_as_they_are() => Type("ls\r\u0003\u001b[A\u00c3\u00a4\0").ShouldBe(("ls\r\u0003\u001b[A\u00c3\u00a4\0", ""));

    [Fact]
    public void The_leading_key_and_a_letter_are_the_client_s()
    {
        var (forHost, own) = Type("a\u001flb\u001fec\u001fw\u001f?");
        forHost.ShouldBe("abc");
        own.ShouldBe("Leave End Where Help");
    }

    [Fact]
    public void Twice_it_is_sent_once() => Type("\u001f\u001f").ShouldBe(("\u001f", ""));

    [Fact]
    public void It_may_come_in_two_pieces()
    {
        Type("x\u001f").ShouldBe(("x", ""));
        var (forHost, own) = Type("ly");
        forHost.ShouldBe("y");
        own.ShouldBe("Leave");
    }
}
