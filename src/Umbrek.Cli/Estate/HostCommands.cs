using System.CommandLine;
using System.Text.Json;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Estate;

/// <summary>Looking at hosts and naming them.</summary>
public static class HostCommands
{
    public static Command Host(ClientContext client)
    {
        var command = ClientCommands.Named("host", "The computers under care.", "umbrek host list 'in \"Copperbeech Libraries\"'");
        command.Add(List(client), Show(client), Compare(client), Refresh(client));
        command.Add([.. HostEditCommands.All(client), .. HostLifeCommands.All(client)]);
        return command;
    }

    /// <summary>Reads all pages of a selection.</summary>
    /// <summary>Hosts in a few words, with whose they are: "quay-ticket-03 of Saltmarsh Ferry", "4 hosts (Saltmarsh Ferry)".</summary>
    public static string Where(IReadOnlyList<HostSummary> hosts) => hosts.Count == 1
        ? $"{hosts[0].Label} of {GroupPath.Customer(hosts[0].GroupPath)}"
        : $"{hosts.Count} hosts ({string.Join(", ", hosts.Select(h => GroupPath.Customer(h.GroupPath)).Distinct())})";

    public static async Task<List<HostSummary>> SelectAsync(ApiClient api, string selection, CancellationToken cancel)
    {
        var hosts = new List<HostSummary>();
        string? cursor = null;
        do
        {
            var page = await api.GetAsync($"hosts?limit=1000&selection={Uri.EscapeDataString(selection)}{(cursor is null ? "" : $"&cursor={cursor}")}", WireJson.Default.PageHostSummary, cancel).ConfigureAwait(false);
            hosts.AddRange(page.Items);
            cursor = page.NextCursor;
        }
        while (cursor is not null);
        return hosts;
    }

    /// <summary>A command line's name of one host: its label, system name or id, or a beginning that only one host has.</summary>
    public static async Task<HostSummary> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        // Retired ones are found too: they can be looked at and restored.
        var all = await SelectAsync(api, "all or is retired", cancel).ConfigureAwait(false);
        bool Is(string text) => string.Equals(text, name, StringComparison.OrdinalIgnoreCase);
        var found = all.Where(h => Is(h.Label) || Is(h.SystemName) || Is(h.Id.ToString())).ToList();
        if (found.Count == 0)
        {
            found = all.Where(h => h.Label.StartsWith(name, StringComparison.OrdinalIgnoreCase) || h.SystemName.StartsWith(name, StringComparison.OrdinalIgnoreCase)).ToList();
        }
        return found switch
        {
            [var one] => one,
            [] => throw new ClientException($"There is no host '{name}'. 'umbrek host list' shows all.", ExitCodes.NothingMatched),
            _ => throw new ClientException($"'{name}' could be {found.Count} hosts: {string.Join(", ", found.Take(5).Select(h => $"{h.Label} of {h.GroupPath}"))}{(found.Count > 5 ? " …" : "")}. Write more of the name, or the id.", ExitCodes.NothingMatched),
        };
    }

    public static Argument<string> HostArgument(ClientContext client)
    {
        var argument = new Argument<string>("host") { Description = "Label or system name; a beginning is enough when it is the only one.", HelpName = "host" };
        argument.CompletionSources.Add(_ => HostNames(client));
        return argument;
    }

    /// <summary>Names for shell completion; nothing when the service does not answer at once.</summary>
    public static IEnumerable<string> HostNames(ClientContext client) =>
        Offered.Ask(client, async (api, cancel) => (await SelectAsync(api, "all", cancel).ConfigureAwait(false)).Select(h => h.Label));

    private static Command List(ClientContext client)
    {
        var selection = SelectionArgument.Optional(client);
        var command = ClientCommands.Named("list", "Lists hosts with their state and health.", "umbrek host list 'in \"Saltmarsh Ferry\" and is away'");
        command.Add(selection);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var hosts = await SelectAsync(api, parsed.GetRequiredValue(selection), cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), hosts, WireJson.Default.ListHostSummary,
                parsed.GetRequiredValue(selection) == "all" ? "No host is enrolled yet. Make an installer: umbrek installer new --group GROUP" : "No host matches.",
                new("Host", h => h.Label == h.SystemName ? h.Label : $"{h.Label} ({h.SystemName})", Machine: h => h.Label),
                new("Group", h => h.GroupPath),
                new("State", h => Words.Of(h.Presence, now), Machine: h => JsonSerializer.Serialize(h.Presence.State, WireJson.Default.PresenceState).Trim('"')),
                new("Processor", h => Words.Percent(h.ProcessorPercent), Right: true, Machine: h => $"{h.ProcessorPercent}"),
                new("Memory", h => Words.Percent(h.MemoryUsedPercent), Right: true, Machine: h => $"{h.MemoryUsedPercent}"),
                new("Storage", h => Words.Percent(h.StorageUsedPercent), Right: true, Machine: h => $"{h.StorageUsedPercent}"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var host = HostArgument(client);
        var command = ClientCommands.Named("show", "Shows everything known of one host.", "umbrek host show quay-ticket-01");
        command.Add(host);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            Print(client, client.Format(parsed), await api.GetAsync($"hosts/{found.Id}", WireJson.Default.HostDetail, cancel).ConfigureAwait(false));
            if (client.Format(parsed) == OutputFormat.Table)
            {
                await PrintTrendsAsync(client, api, found.Id, cancel).ConfigureAwait(false);
            }
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>The last hours as sparklines, and what is wrong now.</summary>
    private static async Task PrintTrendsAsync(ClientContext client, ApiClient api, Guid id, CancellationToken cancel)
    {
        var now = client.Time.GetUtcNow();
        var series = await api.GetAsync($"hosts/{id}/series?metrics=processor,memory.used,storage.used&from={Words.Iso(now.AddHours(-6))}&points={Sparkline.Width}", WireJson.Default.MetricSeries, cancel).ConfigureAwait(false);
        var alerts = (await api.GetAsync($"alerts?on={Uri.EscapeDataString(Core.Estate.SelectionWords.Quote((await api.GetAsync($"hosts/{id}", WireJson.Default.HostDetail, cancel).ConfigureAwait(false)).Summary.SystemName))}", WireJson.Default.PageAlertLine, cancel).ConfigureAwait(false)).Items.SelectMany(l => l.Alerts).Where(a => a.HostId == id).ToList();
        Console.Out.WriteLine();
        if (series.Lines.Count > 0)
        {
            Console.Out.WriteLine("The last 6 hours, of 100 %");
            foreach (var line in series.Lines)
            {
                Console.Out.WriteLine($"  {$"{line.Metric} {line.Part}".Trim(),-20}{Sparkline.Draw(line.Mean, 100)}  {Words.Percent(line.Mean.LastOrDefault(v => v is not null))}");
            }
        }
        foreach (var probe in (await api.GetAsync($"hosts/{id}/probes", WireJson.Default.PageProbeOnHost, cancel).ConfigureAwait(false)).Items)
        {
            Console.Out.WriteLine($"{probe.CheckName}: {Health.ProbeCommands.StateOf(probe.Result?.State ?? Core.Health.ProbeState.Unknown, probe.Past)}. {Core.Text.TerminalText.Neutralise(probe.Result?.Says ?? "Its agent has told nothing yet.")}");
        }
        foreach (var alert in alerts)
        {
            Console.Out.WriteLine($"{Words.Of(alert.Severity)}: {Core.Text.TerminalText.Neutralise(alert.What)} (umbrek alert show {Words.ShortId(alert.Id)})");
        }
    }

    private static Command Compare(ClientContext client)
    {
        var hosts = new Argument<string[]>("host") { Description = "Hosts, by label or system name.", Arity = new ArgumentArity(2, 20) };
        var metric = new Option<string>("--metric") { Description = "What is compared, for example processor, memory.used or storage.used.", DefaultValueFactory = _ => "processor" };
        var past = new Option<string>("--for") { Description = "How far to look back, for example 6h or 7d.", DefaultValueFactory = _ => "6h" };
        var command = ClientCommands.Named("compare", "Shows one figure of several hosts over the same time.", "umbrek host compare ripening-climate-01 ripening-climate-02 --metric storage.used --for 3d");
        command.Add(hosts);
        command.Add(metric, past);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (to, name) = (client.Time.GetUtcNow(), parsed.GetRequiredValue(metric));
            var from = to - Typed.Span(parsed.GetRequiredValue(past));
            var lines = new List<ComparedLine>();
            foreach (var typed in parsed.GetRequiredValue(hosts))
            {
                var host = await FindAsync(api, typed, cancel).ConfigureAwait(false);
                var series = await api.GetAsync($"hosts/{host.Id}/series?metrics={Uri.EscapeDataString(name)}&from={Words.Iso(from)}&to={Words.Iso(to)}&points={Sparkline.Width}", WireJson.Default.MetricSeries, cancel).ConfigureAwait(false);
                lines.AddRange(series.Lines.Count == 0 ? [new ComparedLine(host.Label, "", null, [])] : series.Lines.Select(l => new ComparedLine(host.Label, l.Part, l.Unit, l.Mean)));
            }
            // One scale for all of them: that is what comparing is for.
            var most = lines.Max(l => l.Mean.Max()) ?? 0;
            Listing.Print(client.Format(parsed), lines, WireJson.Default.ListComparedLine, "",
                new("Host", l => l.Part.Length == 0 ? l.Host : $"{l.Host} {l.Part}"),
                new($"{name}, {Units.Span(to - from)}", l => l.Mean.Count == 0 ? "nothing is known of that time" : Sparkline.Draw(l.Mean, most), Machine: l => string.Join(' ', l.Mean)),
                new("Least", l => Figure(l.Mean.Min(), l), Right: true),
                new("Most", l => Figure(l.Mean.Max(), l), Right: true),
                new("Now", l => Figure(l.Mean.LastOrDefault(v => v is not null), l), Right: true));
            return ExitCodes.Done;
        });
        return command;

        static string Figure(double? value, ComparedLine line) => value is not { } v ? "" : line.Unit switch { Core.Estate.Dimension.Size => Units.Bytes(v), Core.Estate.Dimension.Percent => Words.Percent(v), _ => v.ToString("0.##", System.Globalization.CultureInfo.InvariantCulture) };
    }

    private static Command Refresh(ClientContext client)
    {
        var host = HostArgument(client);
        var command = ClientCommands.Named("refresh", "Asks a host to report all its facts now.", "umbrek host refresh quay-ticket-01");
        command.Add(host);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Post, $"hosts/{found.Id}/refresh", cancel).ConfigureAwait(false);
            var detail = await api.GetAsync($"hosts/{found.Id}", WireJson.Default.HostDetail, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{found.Label} has reported its facts.", detail, WireJson.Default.HostDetail);
            return ExitCodes.Done;
        });
        return command;
    }

    public static void Print(ClientContext client, OutputFormat format, HostDetail detail)
    {
        var now = client.Time.GetUtcNow();
        var h = detail.Summary;
        var sample = detail.LatestSample;
        (string, string?)[] head =
        [
            ("Label", h.Label),
            ("System name", h.SystemName),
            ("Group", h.GroupPath),
            ("State", Words.Of(h.Presence, now)),
            ("Last seen", $"{Words.Ago(h.LastSeenAt, now)} ({Words.Iso(h.LastSeenAt)})"),
            ("Enrolled", Words.Iso(detail.EnrolledAt)),
            ("Retired", h.RetiredAt is { } retired ? Words.Ago(retired, now) : null),
            ("Tags", h.Tags.Count == 0 ? null : string.Join(", ", h.Tags)),
            ("Notes", detail.Notes),
            ("Links", detail.Links.Count == 0 ? null : string.Join('\n', detail.Links.Select(l => $"{l.Title}  {l.Url}"))),
            ("Logged in", h.Users.Count == 0 ? "nobody" : string.Join(", ", h.Users)),
            ("Processor", sample is null ? null : $"{sample.ProcessorPercent:0} % busy, load {sample.Load1:0.00} {sample.Load5:0.00} {sample.Load15:0.00}"),
            ("Memory", sample is null ? null : $"{Units.Bytes(sample.MemoryAvailableBytes)} available of {Units.Bytes(sample.MemoryTotalBytes)}"),
            ("Swap", sample is null or { SwapTotalBytes: 0 } ? null : $"{Units.Bytes(sample.SwapTotalBytes - sample.SwapFreeBytes)} used of {Units.Bytes(sample.SwapTotalBytes)}"),
            ("Up for", sample is null ? null : Units.Span(TimeSpan.FromSeconds(sample.UptimeSeconds))),
            ("Storage", sample is null ? null : string.Join('\n', sample.FileSystems.Select(f => $"{f.MountPoint}  {f.UsedPercent:0} % of {Units.Bytes(f.TotalBytes)}"))),
            ("Health from", sample is null ? "nothing reported yet" : $"{Words.Ago(sample.At, now)}"),
        ];
        Listing.PrintOne(format, detail, WireJson.Default.HostDetail, [.. head, .. detail.Own.OrderBy(o => o.Key, StringComparer.OrdinalIgnoreCase).Select(o => (o.Key, (string?)o.Value)), .. detail.Facts.Select(f => (f.Name, (string?)Value(f)))]);
    }

    private static string Value(Core.Inventory.Fact fact) => fact.Value.ValueKind switch
    {
        JsonValueKind.String => fact.Value.GetString() ?? "",
        JsonValueKind.Array when fact.Name == Core.Inventory.FactNames.Disks => string.Join('\n', fact.Value.EnumerateArray().Select(v => Disk(v.ToString()))),
        JsonValueKind.Array => fact.Value.GetArrayLength() == 0 ? "none" : string.Join('\n', fact.Value.EnumerateArray().Select(v => v.ToString())),
        JsonValueKind.Number when fact.Name == Core.Inventory.FactNames.MemoryTotal => Units.Bytes(fact.Value.GetInt64()),
        _ => fact.Value.GetRawText(),
    };

    /// <summary>"/ ext4 34359738368" with the size in a unit.</summary>
    private static string Disk(string text) =>
        text.LastIndexOf(' ') is var cut && cut > 0 && long.TryParse(text.AsSpan(cut + 1), out var bytes) ? $"{text[..cut]} {Units.Bytes(bytes)}" : text;
}
