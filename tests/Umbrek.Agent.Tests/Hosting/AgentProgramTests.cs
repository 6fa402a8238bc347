using System.Text.Json;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Hosting;

public sealed class AgentProgramTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task A_host_that_is_not_enrolled_says_what_to_do()
    {
        var (status, stdout, _) = await TestPrograms.RunAsync("umbrek-agent", ["status", "--state", directory.Path]);
        status.ShouldBe(1);
        stdout.ShouldContain("Not enrolled");
        stdout.ShouldContain("umbrek-agent install");
        var run = await TestPrograms.RunAsync("umbrek-agent", ["run", "--state", directory.Path]);
        run.Status.ShouldBe(1);
        run.Stderr.ShouldContain("Enrol it first");
        var json = await TestPrograms.RunAsync("umbrek-agent", ["status", "--state", directory.Path, "--output", "json"]);
        JsonDocument.Parse(json.Stdout).RootElement.GetProperty("enrolled").GetBoolean().ShouldBeFalse();
    }

    [Theory]
    [InlineData("care.halyard.example", "x.y", "no address of a service")]
    [InlineData("http://192.0.2.1:8443", "VALID", "not encrypted")]
    [InlineData("https://127.0.0.1:1", "rubbish", "no enrolment token")]
    [InlineData("https://127.0.0.1:1", "VALID", "can't be reached")]
    public async Task Enrolment_that_cannot_work_says_why_and_leaves_no_identity(string service, string token, string word)
    {
        if (token == "VALID")
        {
            token = Core.Enrolment.EnrolmentTokenText.Create(new byte[32]).ToString();
        }
        var (status, _, stderr) = await TestPrograms.RunAsync("umbrek-agent", ["enrol", "--service", service, "--token", token, "--state", directory.Path]);
        status.ShouldBe(1);
        stderr.ShouldContain(word);
        File.Exists(directory.In("identity.json")).ShouldBeFalse();
    }

    [Fact]
    public async Task A_damaged_identity_is_named()
    {
        await File.WriteAllTextAsync(directory.In("identity.json"), "{ broken");
        var (status, _, stderr) = await TestPrograms.RunAsync("umbrek-agent", ["run", "--state", directory.Path]);
        status.ShouldBe(1);
        stderr.ShouldContain("identity.json is damaged");
    }
}
