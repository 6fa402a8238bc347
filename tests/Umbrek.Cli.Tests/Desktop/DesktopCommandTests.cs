using Umbrek.Tests;

namespace Umbrek.Cli.Tests.Desktop;

/// <summary>What the command says before it asks anybody.</summary>
public sealed class DesktopCommandTests
{
    [Theory]
    [InlineData("desktop quay-ticket-03", "Say what to do with the desktop")]
    [InlineData("desktop quay-ticket-03 --list --snapshot x.png", "Say what to do with the desktop")]
    [InlineData("desktop quay-ticket-03 --snapshot x.png --listen 5903", "Say what to do with the desktop")]
    [InlineData("desktop quay-ticket-03 --listen 0.0.0.0:5900", "0.0.0.0 is an address that others get at")]
    [InlineData("desktop quay-ticket-03 --listen 198.51.100.7:5900", "198.51.100.7 is an address that others get at")]
    [InlineData("desktop quay-ticket-03 --listen [::]:5900", "an address that others get at")]
    [InlineData("desktop quay-ticket-03 --listen nonsense", "'nonsense' is no address to listen at; write 127.0.0.1:5900.")]
    [InlineData("desktop quay-ticket-03 --listen 127.0.0.1:99999", "is no address to listen at")]
    [InlineData("desktop quay-ticket-03 --listen 127.0.0.1", "is no address to listen at")]
    [InlineData("desktop quay-ticket-03 --snapshot x.png --take-input", "--take-input goes with --listen, and not with --watch")]
    [InlineData("desktop quay-ticket-03 --listen 5903 --watch --take-input", "whoever only looks on takes nothing away")]
    [InlineData("desktop quay-ticket-03 --record x.screen --hide-screen", "--hide-screen goes with --listen, and not with --watch")]
    [InlineData("desktop quay-ticket-03 --listen 5903 --watch --lock-after", "--lock-after goes with --listen, and not with --watch")]
    public async Task Wrong_use_is_told_with_what_to_write(string command, string said)
    {
        using var home = new TestDirectory();
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek", command.Split(' '), "", new Dictionary<string, string> { ["UMBREK_HOME"] = home.Path });
        (status, stdout).ShouldBe((2, ""));
        stderr.ShouldContain(said);
    }
}
