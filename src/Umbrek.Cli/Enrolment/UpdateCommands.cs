using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Cli.Enrolment;

/// <summary>Agent programs, and updating hosts to them.</summary>
public static class UpdateCommands
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);

    public static Command Release(ClientContext client)
    {
        var command = ClientCommands.Named("release", "Agent programs that hosts can be updated to.", "umbrek release list");
        command.Add(ListReleases(client), AddRelease(client));
        return command;
    }

    public static Command Update(ClientContext client)
    {
        var command = ClientCommands.Named("update", "Updating the agents of many hosts, in waves.", "umbrek update start --on 'in \"Copperbeech Libraries\"'");
        command.Add(Start(client), List(client), Show(client), Cancel(client));
        return command;
    }

    private static Command ListReleases(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists agent programs, newest first.", "umbrek release list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("releases", WireJson.Default.PageReleaseInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListReleaseInfo, "The service has no agent to give. Add one: umbrek release add FILE --version VERSION",
                new("Version", r => r.Version),
                new("System", r => r.System),
                new("Hosts", r => r.Hosts.ToString(CultureInfo.InvariantCulture), Right: true),
                new("Size", r => Units.Bytes(r.Size), Right: true, Machine: r => r.Size.ToString(CultureInfo.InvariantCulture)),
                new("Added", r => Words.Iso(r.AddedAt)),
                new("By", r => r.AddedBy),
                new("SHA-256", r => r.Sha256[..12], Machine: r => r.Sha256));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command AddRelease(ClientContext client)
    {
        var file = new Argument<string>("file") { Description = "The agent program." };
        var version = new Option<string>("--version") { Description = "Its version, as 'umbrek-agent --version' says it.", Required = true };
        var command = ClientCommands.Named("add", "Gives the service a newer agent program; the service signs it.", "umbrek release add ./umbrek-agent --version 0.2.0");
        command.Add(file, version);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            await using var content = File.OpenRead(parsed.GetRequiredValue(file));
            using var request = new HttpRequestMessage(HttpMethod.Post, $"{ApiClient.Base}releases?version={Uri.EscapeDataString(parsed.GetRequiredValue(version))}") { Content = new StreamContent(content) };
            request.Content.Headers.ContentType = new("application/octet-stream");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            var added = await System.Net.Http.Json.HttpContentJsonExtensions.ReadFromJsonAsync(response.Content, WireJson.Default.ReleaseInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"Version {added!.Version} is signed and ready. Update hosts to it: umbrek update start --on SELECTION", added, WireJson.Default.ReleaseInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Start(ClientContext client)
    {
        var on = new Option<string>("--on") { Description = "The selection of hosts; hosts that have the version already count as updated.", Required = true };
        var version = new Option<string?>("--version") { Description = "To which; the newest when left out." };
        var waves = new Option<string>("--waves") { Description = "Sizes of the waves: numbers of hosts, shares of them, the rest.", DefaultValueFactory = _ => Rollout.DefaultWaves };
        var failures = new Option<int>("--failures-allowed") { Description = "How many hosts may fail before it stops by itself.", DefaultValueFactory = _ => 0 };
        var within = new Option<string>("--return-within") { Description = "How long a host has to return.", DefaultValueFactory = _ => "5min" };
        var wait = new Option<bool>("--wait") { Description = "Stay until it has ended, and say what becomes of each host." };
        var command = ClientCommands.Named("start", "Updates the agents of a selection.", "umbrek update start --on 'in \"Copperbeech Libraries\"' --waves '1, 25%, rest' --wait");
        command.Add(on, version, waves, failures, within, wait);
        command.SetAction(async (parsed, cancel) =>
        {
            var seconds = Units.ParseSpan(parsed.GetRequiredValue(within)) ?? throw new ClientException($"'{parsed.GetValue(within)}' is no length of time; write it like 90s or 5min.", ExitCodes.WrongUse);
            using var api = client.State.Open();
            var wish = new NewRollout(parsed.GetRequiredValue(on), parsed.GetValue(version), parsed.GetValue(waves), parsed.GetValue(failures), (int)seconds.TotalSeconds);
            var started = await api.PostAsync("rollouts", wish, WireJson.Default.NewRollout, WireJson.Default.RolloutDetail, cancel).ConfigureAwait(false);
            if (!parsed.GetValue(wait))
            {
                Listing.Say(client.Format(parsed), $"{Count(started.Info.Hosts)} to version {started.Info.Version} in {Plural(started.Info.Waves, "wave")}. Follow it: umbrek update show {Words.ShortId(started.Info.Id)}", started, WireJson.Default.RolloutDetail);
                return ExitCodes.Done;
            }
            return await FollowAsync(client, api, parsed, started, cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static async Task<int> FollowAsync(ClientContext client, ApiClient api, ParseResult parsed, RolloutDetail detail, CancellationToken cancel)
    {
        var table = client.Format(parsed) == OutputFormat.Table;
        var said = new Dictionary<Guid, UpdateState>();
        if (table)
        {
            Console.Out.WriteLine($"{Count(detail.Info.Hosts)} to version {detail.Info.Version} in {Plural(detail.Info.Waves, "wave")}");
        }
        while (true)
        {
            foreach (var host in detail.Hosts.Where(h => table && h.State is not (UpdateState.Waiting or UpdateState.Told) && said.TryAdd(h.HostId, h.State)))
            {
                Console.Out.WriteLine($"wave {host.Wave}  {host.Label}  {Word(host.State)}{(host.Reason is null ? "" : $": {host.Reason}")}");
            }
            if (detail.Info.State != RolloutState.Running)
            {
                break;
            }
            await Task.Delay(Look, client.Time, cancel).ConfigureAwait(false);
            detail = await api.GetAsync($"rollouts/{detail.Info.Id}", WireJson.Default.RolloutDetail, cancel).ConfigureAwait(false);
        }
        Listing.Say(client.Format(parsed), $"{detail.Info.State.ToString().ToLowerInvariant()}: {detail.Info.Updated} of {detail.Info.Hosts} run version {detail.Info.Version}{(detail.Info.Reason is { } why ? $"; {why}" : "")}", detail, WireJson.Default.RolloutDetail);
        return detail.Info.State == RolloutState.Done && detail.Info.Failed == 0 ? ExitCodes.Done : ExitCodes.Failed;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists agent updates, newest first.", "umbrek update list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("rollouts", WireJson.Default.PageRolloutInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListRolloutInfo, "No agent was updated from here yet.",
                new("Id", r => Words.ShortId(r.Id), Machine: r => $"{r.Id}"),
                new("Version", r => r.Version),
                new("State", r => r.State.ToString().ToLowerInvariant()),
                new("Wave", r => $"{r.Wave} of {r.Waves}", Right: true),
                new("Updated", r => $"{r.Updated} of {r.Hosts}", Right: true),
                new("Failed", r => $"{r.Failed}", Right: true),
                new("Started", r => Words.Iso(r.CreatedAt)),
                new("By", r => r.CreatedBy),
                new("On", r => r.Selection));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("show", "Shows an agent update host by host.", "umbrek update show 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var detail = await api.GetAsync($"rollouts/{(await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false)).Id}", WireJson.Default.RolloutDetail, cancel).ConfigureAwait(false);
            var format = client.Format(parsed);
            if (format == OutputFormat.Json)
            {
                Listing.PrintOne(format, detail, WireJson.Default.RolloutDetail);
                return ExitCodes.Done;
            }
            if (format == OutputFormat.Table)
            {
                var info = detail.Info;
                Listing.PrintOne(format, detail, WireJson.Default.RolloutDetail,
                    ("Version", info.Version), ("On", info.Selection), ("State", info.State.ToString().ToLowerInvariant()), ("Why", info.Reason),
                    ("Wave", $"{info.Wave} of {info.Waves}"), ("Started", $"{Words.Iso(info.CreatedAt)} by {info.CreatedBy}"));
                Console.Out.WriteLine();
            }
            Listing.Print(format, detail.Hosts, WireJson.Default.ListRolloutHostInfo, "It has no hosts.",
                new("Wave", h => $"{h.Wave}", Right: true), new("Host", h => h.Label), new("State", h => Word(h.State)), new("When", h => Words.Iso(h.At)), new("Why", h => h.Reason ?? ""), new("Group", h => h.GroupPath));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Cancel(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("cancel", "Tells no further host; those that were told go on.", "umbrek update cancel 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var after = await api.ActAsync($"rollouts/{found.Id}/cancel", WireJson.Default.RolloutDetail, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The update to {after.Info.Version} is {after.Info.State.ToString().ToLowerInvariant()}; {after.Info.Updated} of {after.Info.Hosts} hosts have it.", after, WireJson.Default.RolloutDetail);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> IdArgument() => new("id") { Description = "The update's id, or the last characters of it." };

    private static async Task<RolloutInfo> FindAsync(ApiClient api, string id, CancellationToken cancel) =>
        ShortIds.Find((await api.GetAsync("rollouts", WireJson.Default.PageRolloutInfo, cancel).ConfigureAwait(false)).Items, r => r.Id, id, "update", "umbrek update list");

    private static string Word(UpdateState state) => state == UpdateState.WentBack ? "went back" : state.ToString().ToLowerInvariant();

    private static string Count(int hosts) => hosts == 1 ? "1 host is updated" : $"{hosts} hosts are updated";

    private static string Plural(int count, string what) => count == 1 ? $"1 {what}" : $"{count} {what}s";
}
