using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>Whose screens there are, by the programs that show something on them.</summary>
public sealed class XDisplaysTests
{
    /// <summary>An account that every Debian has for its own services.</summary>
    private const string Greeter = "daemon";
    private const uint GreeterId = 1;

    /// <summary>Of somebody who works there; nobody here is called so.</summary>
    private const uint SomebodyId = 61_234;

    [Fact]
    public async Task A_login_screen_is_nobodys_until_somebody_logs_in_and_again_when_he_has_left()
    {
        await using var screen = await VirtualScreen.StartAsync();
        XDisplay Now() => XDisplays.Find().Single(d => d.Name == screen.Display);
        (Now().Person, Now().User, Now().IsGiven).ShouldBe((null, 0u, false), "nothing is shown there yet");

        // As display managers do it: the server is root's, and what asks for name and password runs as a user of the system's own.
        screen.Run("setpriv", "--reuid", Greeter, "--regid", Greeter, "--clear-groups", "xlogo");
        await Wait.UntilAsync(() => Task.FromResult(Now().User == GreeterId), "the login screen");
        Now().Person.ShouldBeNull();

        var session = screen.Run("setpriv", "--reuid", $"{SomebodyId}", "--clear-groups", "xlogo");
        // setpriv itself is still root's for a moment.
        await Wait.UntilAsync(() => Task.FromResult(Now() is { Person: "61234", User: SomebodyId }), "somebody to log in");

        session.Kill();
        await Wait.UntilAsync(() => Task.FromResult(Now().Person is null), "him to leave");
        Now().User.ShouldBe(GreeterId);
    }
}
