using System.Diagnostics;
using System.Text.Json;
using Umbrek.Simulation.Estate;

namespace Umbrek.Simulation.Demo;

/// <summary>The main job once, through the real client and a real agent on this machine: enrol, list, run.</summary>
public static class DemoCheck
{
    public static async Task<int> RunAsync(DemoWorld world, string directory, CancellationToken cancel)
    {
        var client = new Client(Path.Combine(directory, "client"), cancel);
        var lead = world.Accounts[0];
        var name = Environment.MachineName;

        await client.RunAsync("sign in", lead.Password + "\n", "sign-in", $"{world.Address}", "--name", lead.Name, "--password-stdin", "--trust", $"{world.Pin}").ConfigureAwait(false);
        var made = await client.RunAsync("make an installer", null, "installer", "new", "--group", Scenario.OwnGroup, "--uses", "1", "--output", "json").ConfigureAwait(false);
        var token = JsonDocument.Parse(made).RootElement.GetProperty("token").GetString()!;

        Say("enrol this machine", $"umbrek-agent enrol --service {world.Address} --token …");
        await using (var enrol = await ChildProgram.StartAsync("umbrek-agent", null, cancel, "enrol", "--service", $"{world.Address}", "--token", token, "--state", world.OwnAgentState, "--label", name).ConfigureAwait(false))
        {
            await UntilAsync(() => Task.FromResult(enrol.HasExited), "the enrolment to end", cancel).ConfigureAwait(false);
            Console.WriteLine(string.Join('\n', enrol.Lines));
        }
        await using var agent = await ChildProgram.StartAsync("umbrek-agent", null, cancel, "run", "--state", world.OwnAgentState).ConfigureAwait(false);
        await UntilAsync(async () => (await client.QuietAsync("host", "list", $"\"{name}\" and is linked", "--output", "json").ConfigureAwait(false)).Contains("\"linked\"", StringComparison.Ordinal), "this machine to be linked", cancel).ConfigureAwait(false);

        await client.RunAsync("list", null, "host", "list", $"in \"{Scenario.OwnGroup}\" or in \"Tarn Valley Creamery/Ripening Store\"").ConfigureAwait(false);
        var answer = await client.RunAsync("run on this machine", null, "run", "--on", $"\"{name}\"", "--", "echo umbrek was here; uname -sr").ConfigureAwait(false);
        await client.RunAsync("look back", null, "job", "list").ConfigureAwait(false);
        if (!answer.Contains("umbrek was here", StringComparison.Ordinal))
        {
            throw new InvalidOperationException("The command's output did not come back.");
        }
        Console.WriteLine("\ncheck passed: this machine enrolled, was seen online, and ran a command");
        return 0;
    }

    private static void Say(string what, string command) => Console.WriteLine($"\n== {what}\n$ {command}");

    private static async Task UntilAsync(Func<Task<bool>> done, string what, CancellationToken cancel)
    {
        var began = Stopwatch.GetTimestamp();
        while (!await done().ConfigureAwait(false))
        {
            if (Stopwatch.GetElapsedTime(began) > TimeSpan.FromSeconds(30))
            {
                throw new TimeoutException($"waited 30 s for {what}");
            }
            await Task.Delay(50, cancel).ConfigureAwait(false);
        }
    }

    private sealed class Client(string home, CancellationToken cancel)
    {
        public async Task<string> RunAsync(string what, string? input, params string[] arguments)
        {
            Say(what, "umbrek " + string.Join(' ', arguments.Select(a => a.Contains(' ') || a.Contains('"') ? $"'{a}'" : a)));
            var (status, stdout, stderr) = await CallAsync(input, arguments).ConfigureAwait(false);
            Console.Write(stdout);
            Console.Write(stderr);
            return status == 0 ? stdout : throw new InvalidOperationException($"umbrek {arguments[0]} ended with status {status}.");
        }

        public async Task<string> QuietAsync(params string[] arguments) => (await CallAsync(null, arguments).ConfigureAwait(false)).Stdout;

        private async Task<(int Status, string Stdout, string Stderr)> CallAsync(string? input, string[] arguments)
        {
            var start = new ProcessStartInfo(ChildProgram.Find("umbrek"), arguments) { RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true };
            start.Environment["UMBREK_HOME"] = home;
            using var process = Process.Start(start)!;
            if (input is not null)
            {
                await process.StandardInput.WriteAsync(input.AsMemory(), cancel).ConfigureAwait(false);
            }
            process.StandardInput.Close();
            var stdout = process.StandardOutput.ReadToEndAsync(cancel);
            var stderr = process.StandardError.ReadToEndAsync(cancel);
            await process.WaitForExitAsync(cancel).ConfigureAwait(false);
            return (process.ExitCode, await stdout.ConfigureAwait(false), await stderr.ConfigureAwait(false));
        }
    }
}
