using System.Diagnostics;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Access;

/// <summary>What the owner of a computer leaves to the service, and what the service makes of that.</summary>
public sealed class HostRulesTests : IDisposable
{
    private static readonly HostPolicy RunOnly = HostPolicy.Everything with { Allowed = [HostAct.Run] };

    private readonly TestDirectory directory = new();
    private readonly StateDirectory state;
    private readonly StringWriter said = new();

    public HostRulesTests()
    {
        state = new StateDirectory(directory.In("s"));
        state.Create();
    }

    public void Dispose() => directory.Dispose();

    [Fact]
    public void Without_a_file_the_service_decides()
    {
        var rules = Open();
        rules.InForce.ShouldBe(HostPolicy.Everything);
        rules.Want(RunOnly);
        rules.InForce.ShouldBe(RunOnly);
        Open().InForce.ShouldBe(RunOnly);
    }

    [Fact]
    public void The_service_cannot_widen_what_the_file_leaves_or_what_was_agreed()
    {
        HostLimit.Write(state.LimitFile, new HostPolicyPart([HostAct.Watch, HostAct.Run], ConsentRule.Always, KeyFor: [HostAct.Run]));
        var rules = Open(HostPolicy.Everything with { Allowed = [HostAct.Run, HostAct.Power], Notice = NoticeRule.During });
        rules.Want(HostPolicy.Everything);
        var side = rules.Side();
        side.InForce.ShouldBe(new HostPolicy([HostAct.Run], ConsentRule.Always, NoticeRule.During, [HostAct.Run]));
        side.Limit!.Allowed.ShouldBe([HostAct.Watch, HostAct.Run]);
        rules.Want(HostPolicy.Nothing);
        rules.InForce.Allowed.ShouldBeEmpty();
    }

    [Fact]
    public void A_change_of_the_file_counts_at_once()
    {
        var rules = Open();
        HostLimit.Write(state.LimitFile, new HostPolicyPart([HostAct.Watch]));
        rules.InForce.Allowed.ShouldBe([HostAct.Watch]);
        HostLimit.Remove(state.LimitFile);
        rules.InForce.ShouldBe(HostPolicy.Everything);
    }

    [Theory]
    [InlineData("{ not json", "can't be read")]
    [InlineData("[]", "no JSON object")]
    [InlineData("""{"alowed":["run"]}""", "says 'alowed', which is none of allowed, consent, notice, keyFor, putOffMinutes, record")]
    [InlineData("""{"allowed":["format-disk"]}""", "can't be read")]
    [InlineData("""{"consent":2}""", "can't be read")]
    public void A_file_that_says_nothing_usable_leaves_nothing_until_it_is_mended(string text, string why)
    {
        File.WriteAllText(state.LimitFile, text);
        var rules = Open();
        var side = rules.Side();
        side.InForce.ShouldBe(HostPolicy.Nothing);
        side.Problem!.ShouldContain(why);
        side.Problem!.ShouldContain("umbrek-agent limit");
        said.ToString().ShouldContain(why);
        File.WriteAllText(state.LimitFile, """{"allowed":["run"]}""");
        rules.Side().ShouldBe(new HostSide(RunOnly, new HostPolicyPart([HostAct.Run])));
    }

    [Fact]
    public void A_file_that_others_could_change_leaves_nothing_until_its_rights_are_put_right()
    {
        File.WriteAllText(state.LimitFile, """{"allowed":["run"]}""");
        File.SetUnixFileMode(state.LimitFile, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupWrite);
        var rules = Open();
        rules.Side().Problem!.ShouldContain("chmod go-w");
        rules.InForce.ShouldBe(HostPolicy.Nothing);
        File.SetUnixFileMode(state.LimitFile, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        rules.InForce.ShouldBe(RunOnly);
        File.SetUnixFileMode(state.Path, File.GetUnixFileMode(state.Path) | UnixFileMode.OtherWrite);
        // The directory is looked at whenever the file is read, and a file that was touched is read again.
        File.SetLastWriteTimeUtc(state.LimitFile, DateTime.UtcNow.AddMinutes(1));
        rules.InForce.ShouldBe(HostPolicy.Nothing);
    }

    [Fact]
    public async Task A_file_of_another_user_leaves_nothing()
    {
        Assert.SkipUnless(Environment.IsPrivilegedProcess, "giving a file away takes root");
        File.WriteAllText(state.LimitFile, """{"allowed":["run"]}""");
        await Process.Start("chown", ["65534", state.LimitFile]).WaitForExitAsync();
        var rules = Open();
        rules.Side().Problem!.ShouldContain("belongs to user 65534");
        rules.InForce.ShouldBe(HostPolicy.Nothing);
    }

    [Fact]
    public void What_is_agreed_at_joining_narrows_what_the_file_leaves_already()
    {
        HostLimit.Narrow(state.LimitFile, HostPolicy.Everything);
        File.Exists(state.LimitFile).ShouldBeFalse();
        HostLimit.Narrow(state.LimitFile, HostPolicy.Everything with { Allowed = [HostAct.Watch, HostAct.Run] });
        HostLimit.Narrow(state.LimitFile, HostPolicy.Everything with { Allowed = [HostAct.Run, HostAct.Power], Consent = ConsentRule.Always });
        HostLimit.Read(state.LimitFile).ShouldBe(new HostPolicyPart([HostAct.Run], ConsentRule.Always));
    }

    [Fact]
    public void A_damaged_copy_of_what_the_service_wants_leaves_nothing_until_it_says_so_again()
    {
        File.WriteAllText(state.WantedPolicyFile, "{");
        var rules = Open();
        rules.InForce.ShouldBe(HostPolicy.Nothing);
        rules.Want(RunOnly);
        Open().InForce.ShouldBe(RunOnly);
        rules.Want(new HostPolicy(null!, ConsentRule.Never));
        rules.InForce.ShouldBe(RunOnly);
    }

    [Fact]
    public async Task The_owner_sets_shows_and_removes_limits_on_the_command_line()
    {
        async Task<(int Status, string Stdout, string Stderr)> LimitAsync(params string[] more) => await TestPrograms.RunAsync("umbrek-agent", ["limit", "--state", state.Path, .. more]);
        (await LimitAsync()).Stdout.ShouldContain("no limit of its own");
        var (status, shown, _) = await LimitAsync("--allow", "watch,run", "--key-for", "run");
        status.ShouldBe(0);
        shown.ShouldContain("see the screen, run commands");
        (await LimitAsync("--consent", "always")).Stdout.ShouldContain("a person at the computer is asked every time");
        HostLimit.Read(state.LimitFile).ShouldBe(new HostPolicyPart([HostAct.Watch, HostAct.Run], ConsentRule.Always, KeyFor: [HostAct.Run]));
        var wrong = await LimitAsync("--allow", "watch,fly");
        (wrong.Status, wrong.Stdout).ShouldBe((1, ""));
        wrong.Stderr.ShouldContain("'fly' is nothing that can be allowed");
        HostLimit.Read(state.LimitFile)!.Allowed.ShouldBe([HostAct.Watch, HostAct.Run]);
        (await LimitAsync("--remove")).Stdout.ShouldContain("no limit of its own");
    }

    private HostRules Open(HostPolicy? agreed = null) => new(state, agreed ?? HostPolicy.Everything, new HostKeys(state, null, TimeProvider.System), new AgentLog(said, TimeProvider.System));
}
