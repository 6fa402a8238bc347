using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Enrolment;

/// <summary>Finding computers without an agent.</summary>
public static class ScanCommands
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(400);

    public static Command Scan(ClientContext client)
    {
        var command = ClientCommands.Named("scan", "Finding computers without an agent, from a host that has one.", "umbrek scan start --from quay-office-01 --range 198.51.100.0/24");
        command.Add(Start(client), List(client), Show(client), Cancel(client));
        return command;
    }

    private static Command Start(ClientContext client)
    {
        var from = new Option<string>("--from") { Description = "The linked host that looks around: its label or system name.", Required = true };
        var range = new Option<string>("--range") { Description = "Addresses, like 198.51.100.0/24 or 198.51.100.10-60; at most a /20.", Required = true };
        var ports = new Option<string?>("--ports") { Description = "TCP ports to try, separated by commas; a usual few when left out." };
        var rate = new Option<int>("--rate") { Description = "Probes a second, 1 to 500.", DefaultValueFactory = _ => 100 };
        var notOurs = new Option<bool>("--not-ours") { Description = "Shows only what has no agent of ours." };
        var noWait = new Option<bool>("--no-wait") { Description = "Returns at once; 'umbrek scan show' tells more." };
        var command = ClientCommands.Named("start", "Scans a range from a host, and shows what answers as it is found. Ctrl-C ends the scan.", "umbrek scan start --from quay-office-01 --range 198.51.100.0/24 --not-ours");
        command.Add(from, range, ports, rate, notOurs, noWait);
        command.SetAction(async (parsed, cancel) =>
        {
            var tried = parsed.GetValue(ports)?.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(p =>
                int.TryParse(p, NumberStyles.None, CultureInfo.InvariantCulture, out var port) ? port : throw new ClientException($"'{p}' is no port; write numbers from 1 to 65535.", ExitCodes.WrongUse)).ToList();
            using var api = client.State.Open();
            var hosts = await api.GetAsync($"hosts?selection={Uri.EscapeDataString($"\"{parsed.GetRequiredValue(from).Replace("\"", "")}\"")}", WireJson.Default.PageHostSummary, cancel).ConfigureAwait(false);
            var host = hosts.Items is [HostSummary one] ? one : throw new ClientException(hosts.Items.Count == 0 ? $"There is no host '{parsed.GetValue(from)}'." : $"'{parsed.GetValue(from)}' names {hosts.Items.Count} hosts; a scan starts from one.", ExitCodes.NothingMatched);
            var started = await api.PostAsync("scans", new NewScan(host.Id, parsed.GetRequiredValue(range), tried, parsed.GetValue(rate)), WireJson.Default.NewScan, WireJson.Default.ScanInfo, cancel).ConfigureAwait(false);
            if (parsed.GetValue(noWait))
            {
                Listing.Say(client.Format(parsed), $"{host.Label} tries {started.Total} addresses. See: umbrek scan show {Words.ShortId(started.Id)}", started, WireJson.Default.ScanInfo);
                return ExitCodes.Done;
            }
            return await FollowAsync(client, api, parsed, started, parsed.GetValue(notOurs), cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static async Task<int> FollowAsync(ClientContext client, ApiClient api, ParseResult parsed, ScanInfo started, bool notOurs, CancellationToken cancel)
    {
        var table = client.Format(parsed) == OutputFormat.Table;
        var said = new HashSet<string>();
        ScanDetail detail;
        try
        {
            while (true)
            {
                detail = await api.GetAsync($"scans/{started.Id}", WireJson.Default.ScanDetail, cancel).ConfigureAwait(false);
                Terminal.Progress("");
                foreach (var find in detail.Finds.Where(f => table && (!notOurs || f.OursHostId is null) && said.Add(f.Address)))
                {
                    Console.Out.WriteLine(TerminalText.Neutralise($"{find.Address,-15}  {find.Name ?? "–",-22}  {(find.OursLabel is { } ours ? $"ours: {ours}" : "no agent"),-24}  {find.HardwareAddress ?? "",-17}  {find.Vendor}"));
                }
                if (detail.Info.State != ScanState.Running)
                {
                    break;
                }
                Terminal.Progress($"{detail.Info.Probed} of {detail.Info.Total} addresses");
                await Task.Delay(Look, client.Time, cancel).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            detail = await api.ActAsync($"scans/{started.Id}/cancel", WireJson.Default.ScanDetail, CancellationToken.None).ConfigureAwait(false);
        }
        if (!table)
        {
            Print(client.Format(parsed), detail, notOurs);
        }
        else
        {
            Console.Out.WriteLine($"{detail.Info.State.ToString().ToLowerInvariant()}{(detail.Info.Problem is { } why ? $" ({why})" : "")}: {detail.Info.Probed} of {detail.Info.Total} addresses tried, {detail.Info.Found} answer, {detail.Info.NotOurs} have no agent of ours.");
            if (detail.Info.NotOurs > 0)
            {
                Console.Out.WriteLine($"To take some in: umbrek installer new --group '{detail.Info.GroupPath}'");
            }
        }
        return detail.Info.State == ScanState.Done ? ExitCodes.Done : ExitCodes.Failed;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists scans, newest first.", "umbrek scan list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("scans", WireJson.Default.PageScanInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListScanInfo, "Nothing was scanned yet. Begin: umbrek scan start --from HOST --range 198.51.100.0/24",
                new("Id", s => Words.ShortId(s.Id), Machine: s => $"{s.Id}"), new("From", s => s.HostLabel), new("Range", s => s.Range), new("State", s => s.State.ToString().ToLowerInvariant()),
                new("Tried", s => $"{s.Probed} of {s.Total}", Right: true), new("Answer", s => $"{s.Found}", Right: true), new("Not ours", s => $"{s.NotOurs}", Right: true), new("Started", s => Words.Iso(s.StartedAt)), new("By", s => s.StartedBy));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var id = IdArgument();
        var notOurs = new Option<bool>("--not-ours") { Description = "Shows only what has no agent of ours." };
        var command = ClientCommands.Named("show", "Shows what a scan found.", "umbrek scan show 70f4c2e1 --not-ours");
        command.Add(id, notOurs);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            Print(client.Format(parsed), await api.GetAsync($"scans/{found.Id}", WireJson.Default.ScanDetail, cancel).ConfigureAwait(false), parsed.GetValue(notOurs));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Cancel(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("cancel", "Ends a scan; what it found stays.", "umbrek scan cancel 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var after = await api.ActAsync($"scans/{found.Id}/cancel", WireJson.Default.ScanDetail, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The scan from {after.Info.HostLabel} is {after.Info.State.ToString().ToLowerInvariant()}; {after.Info.Probed} of {after.Info.Total} addresses were tried.", after.Info, WireJson.Default.ScanInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static void Print(OutputFormat format, ScanDetail detail, bool notOurs) =>
        Listing.Print(format, [.. detail.Finds.Where(f => !notOurs || f.OursHostId is null)], WireJson.Default.ListScanFind, "Nothing answered.",
            new("Address", f => f.Address), new("Name", f => f.Name ?? ""), new("Ours", f => f.OursLabel ?? ""), new("Ports", f => string.Join(' ', f.OpenPorts)),
            new("Hardware", f => f.HardwareAddress ?? ""), new("Maker", f => f.Vendor ?? ""));

    private static Argument<string> IdArgument() => new("id") { Description = "The scan's id, or the last characters of it." };

    private static async Task<ScanInfo> FindAsync(ApiClient api, string id, CancellationToken cancel) =>
        ShortIds.Find((await api.GetAsync("scans", WireJson.Default.PageScanInfo, cancel).ConfigureAwait(false)).Items, s => s.Id, id, "scan", "umbrek scan list");
}
