using System.Net;
using System.Text;
using System.Text.Json;
using Umbrek.Cli.Output;
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

    /// <summary>Moves the cursor, sets a title, types an answer, and turns what follows round.</summary>
    private const string Hostile = "\e[2J\e]0;owned\a\e[6n \u009b31m \u202Egnihtyreve\b\b\b";

    [Theory]
    [InlineData("host list")]
    [InlineData("host show quay-ticket-01")]
    [InlineData("run uptime --on quay-ticket-01")]
    [InlineData("shell quay-ticket-01")]
    [InlineData("fetch quay-ticket-01 /etc/hostname")]
    [InlineData("job list --output json")]
    [InlineData("audit verify")]
    public async Task What_a_service_answers_is_shown_and_never_obeyed(string command)
    {
        using var listener = new HttpListener();
        var address = $"http://127.0.0.1:{TestPorts.Next()}/";
        listener.Prefixes.Add(address);
        listener.Start();
        _ = Task.Run(async () =>
        {
            while (listener.IsListening)
            {
                var asked = await listener.GetContextAsync();
                asked.Response.StatusCode = 409;
                asked.Response.ContentType = "application/problem+json";
                asked.Response.Close(JsonSerializer.SerializeToUtf8Bytes(new { type = "conflict", title = Hostile, status = 409, detail = $"It is locked. {Hostile}" }), false);
            }
        });
        using var home = new TestDirectory();
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek", command.Split(' '), "", new Dictionary<string, string> { ["UMBREK_HOME"] = home.Path, ["UMBREK_TOKEN"] = "dG9rZW4", ["UMBREK_SERVICE"] = address });
        listener.Stop();
        status.ShouldNotBe(0);
        stderr.ShouldContain("It is locked. ␛[2J␛]0;owned␇");
        (stdout + stderr).Where(c => char.IsControl(c) && c is not ('\n' or '\t')).ShouldBeEmpty();
        stderr.ShouldNotContain('\u202E');
    }

    [Fact]
    public void Whatever_way_it_is_written_it_is_shown()
    {
        using var to = new StringWriter();
        using (var shown = new ShownText(to))
        {
            shown.Write('\e');
            shown.Write("\a|");
            shown.Write("\b|".ToCharArray());
            shown.Write("\r|".AsSpan());
            shown.Write("{0}|", "\e");
            shown.WriteLine("\e[K");
            shown.WriteLine(new StringBuilder("\e"));
            shown.WriteLine(7);
        }
        to.ToString().ShouldBe("␛␇|␈|␍|␛|␛[K\n␛\n7\n");
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
