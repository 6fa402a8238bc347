using Umbrek.Tests;

namespace Umbrek.Cli.Tests.Output;

public sealed class ProgramTests
{
    public static TheoryData<string> Commands => [.. new[]
    {
        "", "set-up", "sign-in", "sign-out", "technician", "technician list", "technician new", "host", "host list", "host show", "host label", "host move", "host refresh",
        "host tag", "host untag", "host note", "host link", "host fill", "host edit", "host pin", "host colour", "host timeline", "host retire", "host restore", "host merge", "find",
        "group rename", "group move", "group remove", "customer", "customer list", "customer show", "customer set", "customer add-field", "customer remove-field",
        "selection", "selection list", "selection save", "selection change", "selection remove", "selection check", "estate", "estate export", "estate import",
        "group", "group list", "group new", "installer", "installer new", "installer list", "installer show", "installer package", "installer revoke",
        "scan", "scan start", "scan list", "scan show", "scan cancel", "release", "release list", "release add", "update", "update start", "update list", "update show", "update cancel",
        "enrolment", "enrolment list", "enrolment approve", "enrolment reject", "enrolment take-over", "audit", "audit list", "audit export", "audit verify", "run",
        "job", "job list", "job show", "job output", "job cancel", "completion",
    }];

    [Theory]
    [MemberData(nameof(Commands))]
    public async Task Every_command_has_help_with_an_example(string command)
    {
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek", [.. command.Split(' ', StringSplitOptions.RemoveEmptyEntries), "--help"]);
        status.ShouldBe(0, stderr);
        stdout.ShouldContain($"Example:\n  umbrek {command}".TrimEnd());
        stdout.ShouldContain("--output");
    }

    [Theory]
    [InlineData("host list", 6, "not signed in")]
    [InlineData("run", 2, "Option '--on' is required")]
    [InlineData("frobnicate", 2, "frobnicate")]
    [InlineData("host list --output xml", 2, "xml")]
    [InlineData("sign-in nonsense://x --name x --password-stdin", 2, "no address")]
    [InlineData("sign-in https://127.0.0.1:1 --name x --trust abc --password-stdin", 2, "64 hexadecimal digits")]
    [InlineData("sign-in https://127.0.0.1:1 --name x --password-stdin", 1, "can't be reached")]
    public async Task Wrong_use_says_what_to_do_and_ends_with_its_status(string command, int expected, string word)
    {
        using var home = new TestDirectory();
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek", command.Split(' '), "", new Dictionary<string, string> { ["UMBREK_HOME"] = home.Path });
        (stdout + stderr).ShouldContain(word);
        status.ShouldBe(expected);
    }

    [Theory]
    [InlineData("bash", "complete -F")]
    [InlineData("zsh", "compdef")]
    [InlineData("fish", "complete -c umbrek")]
    public async Task Shells_can_be_taught_to_complete(string shell, string word)
    {
        (await TestPrograms.RunAsync("umbrek", ["completion", shell])).Stdout.ShouldContain(word);
        (await TestPrograms.RunAsync("umbrek", ["[suggest:9]", "umbrek jo"])).Stdout.ShouldContain("job");
    }
}
