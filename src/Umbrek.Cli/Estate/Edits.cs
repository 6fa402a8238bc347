using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>What commands that change a host share.</summary>
public static class Edits
{
    /// <summary>Finds the host, reads its version, and changes it; somebody else's change in between is told.</summary>
    public static async Task<HostDetail> ChangeAsync(ApiClient api, string name, Func<HostDetail, HostChange> change, CancellationToken cancel)
    {
        var found = await HostCommands.FindAsync(api, name, cancel).ConfigureAwait(false);
        var before = await api.GetAsync($"hosts/{found.Id}", WireJson.Default.HostDetail, cancel).ConfigureAwait(false);
        return await api.PatchAsync($"hosts/{found.Id}", change(before), before.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, cancel).ConfigureAwait(false);
    }

    /// <summary>"Desk=4" for each; an empty value removes the field's.</summary>
    public static Dictionary<string, string?> ReadFields(IEnumerable<string> typed) => typed.Select(t => t.IndexOf('=') is var at && at > 0
            ? (Name: t[..at].Trim(), Value: t[(at + 1)..])
            : throw new ClientException($"'{t}' is no field with a value; write it like 'Contract ends=2027-03-31'.", ExitCodes.WrongUse))
        .ToDictionary(f => f.Name, f => (string?)f.Value, StringComparer.OrdinalIgnoreCase);

    /// <summary>Text of an argument; "-" reads standard input.</summary>
    public static string ReadText(string typed) => typed == "-" ? Console.In.ReadToEnd() : typed;

    public static int PrintOutlook(OutputFormat format, HostOutlook outlook)
    {
        Listing.Say(format, string.Join('\n', outlook.Says), outlook, WireJson.Default.HostOutlook);
        return ExitCodes.Done;
    }

    public static Command Act(ClientContext client, string name, string description, string example, Func<ApiClient, HostSummary, ParseResult, CancellationToken, Task<int>> act, params ReadOnlySpan<Symbol> more)
    {
        var host = HostCommands.HostArgument(client);
        var command = ClientCommands.Named(name, description, example);
        command.Add([host, .. more]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            return await act(api, await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false), parsed, cancel).ConfigureAwait(false);
        });
        return command;
    }
}
