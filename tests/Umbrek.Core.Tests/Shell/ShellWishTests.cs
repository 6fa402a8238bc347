using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;

namespace Umbrek.Core.Tests.Shell;

public sealed class ShellWishTests
{
    private static readonly ShellWish Good = new() { Terminal = new TerminalSize(120, 40) };

    [Fact]
    public void A_terminal_or_a_command_is_enough()
    {
        Good.Check().ShouldBeNull();
        new ShellWish { Command = new CommandSpec { Arguments = ["df", "-h"] } }.Check().ShouldBeNull();
        new ShellWish { ShellId = Guid.CreateVersion7(), Seen = 12 }.Check().ShouldBeNull();
        (Good with { User = "ana.silva", TerminalType = "screen-256color" }).Check().ShouldBeNull();
    }

    [Theory]
    [InlineData(0, 0)]
    [InlineData(65535, 65535)]
    [InlineData(80, -1)]
    public void A_size_that_no_terminal_has_is_refused_and_kept_within_bounds(int columns, int rows)
    {
        (Good with { Terminal = new TerminalSize(columns, rows) }).Check()!.ShouldContain("can't be");
        var within = new TerminalSize(columns, rows).Within();
        within.Columns.ShouldBeInRange(1, TerminalSize.Most);
        within.Rows.ShouldBeInRange(1, TerminalSize.Most);
    }

    [Fact]
    public void What_can_not_be_says_why()
    {
        new ShellWish().Check()!.ShouldContain("say what to run");
        (Good with { User = "root; reboot" }).Check()!.ShouldContain("no name of a system user");
        (Good with { User = "-root" }).Check()!.ShouldContain("no name of a system user");
        (Good with { TerminalType = "../../etc" }).Check()!.ShouldContain("TERM");
        (Good with { IdleSeconds = 5 }).Check()!.ShouldContain("a minute to a day");
        (Good with { KeepSeconds = 90_000 }).Check()!.ShouldContain("at most a day");
        (Good with { Seen = -1 }).Check()!.ShouldContain("less than nothing");
        (Good with { Command = new CommandSpec { Line = " " } }).Check()!.ShouldContain("empty");
    }
}
