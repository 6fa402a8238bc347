using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Cli.Enrolment;

/// <summary>Making and handing out installers.</summary>
public static class InstallerCommands
{
    public static Command Installer(ClientContext client)
    {
        var command = ClientCommands.Named("installer", "What computers join a group with: a link, a line, a package.", "umbrek installer list");
        command.Add(New(client), List(client), Show(client), Package(client), Revoke(client));
        return command;
    }

    private static Command New(ClientContext client)
    {
        var group = new Option<string>("--group") { Description = "Where the computers will stand: the group's whole path.", Required = true };
        var note = new Option<string?>("--note") { Description = "What it is for." };
        var expires = new Option<string?>("--expires") { Description = "How long it lives, for example 8h or 30d; 7d when left out." };
        var uses = new Option<int?>("--uses") { Description = "How many computers may join with it; any number when left out." };
        var approval = new Option<bool>("--approval") { Description = "Each computer waits until a person lets it in." };
        var options = new PolicyOptions();
        var accessKey = new Option<string>("--access-key") { Description = "none, generate (the host makes one for the vault) or ask (whoever installs chooses it).", DefaultValueFactory = _ => "none" };
        accessKey.AcceptOnlyFromAmong("none", "generate", "ask");
        var command = ClientCommands.Named("new", "Makes an installer.", "umbrek installer new --group 'Saltmarsh Ferry/Quay/Ticketing' --uses 3 --expires 2d --approval");
        command.Add([group, note, expires, uses, approval, accessKey, .. options.All]);
        command.SetAction(async (parsed, cancel) =>
        {
            long? life = null;
            if (parsed.GetValue(expires) is { } text)
            {
                life = (long)(Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 90min, 8h or 30d.", ExitCodes.WrongUse)).TotalSeconds;
            }
            var policy = HostPolicy.Everything.With(options.Read(parsed));
            var key = parsed.GetValue(accessKey) switch { "generate" => AccessKeyRule.Generate, "ask" => AccessKeyRule.AskAtInstall, _ => AccessKeyRule.None };
            using var api = client.State.Open();
            var wish = new NewInstaller(parsed.GetRequiredValue(group), parsed.GetValue(note), life, parsed.GetValue(uses), policy, key, parsed.GetValue(approval));
            var made = await api.PostAsync("installers", wish, WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, cancel).ConfigureAwait(false);
            PrintDetail(client.Format(parsed), made);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists installers, newest first.", "umbrek installer list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("installers", WireJson.Default.PageInstallerInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListInstallerInfo, "There is no installer yet. Make one: umbrek installer new --group GROUP",
                new("Id", t => Words.ShortId(t.Id), Machine: t => $"{t.Id}"),
                new("Group", t => t.GroupPath),
                new("State", State),
                new("Used", t => t.MaxUses is { } most ? $"{t.Uses} of {most}" : $"{t.Uses}", Right: true),
                new("Waiting", t => t.Waiting == 0 ? "" : $"{t.Waiting}", Right: true, Machine: t => $"{t.Waiting}"),
                new("Expires", t => Words.Iso(t.ExpiresAt)),
                new("Note", t => t.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("show", "Shows an installer's link and lines, and who used it.", "umbrek installer show 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var detail = await api.GetAsync($"installers/{found.Id}", WireJson.Default.InstallerDetail, cancel).ConfigureAwait(false);
            PrintDetail(client.Format(parsed), detail);
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine();
                EnrolmentCommands.Print(OutputFormat.Table, detail.Enrolments, "Nobody has used it yet.");
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Package(ClientContext client)
    {
        var id = IdArgument();
        var file = new Option<string?>("--file") { Description = "Where to; the package's own name here when left out." };
        var command = ClientCommands.Named("package", "Saves an installer as a Debian package.", "umbrek installer package 70f4c2e1 --file /srv/quay.deb");
        command.Add(id, file);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}installers/{found.Id}/package");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            var target = Path.GetFullPath(parsed.GetValue(file) ?? response.Content.Headers.ContentDisposition?.FileNameStar ?? "umbrek-agent.deb");
            // It holds the token: for its owner alone.
            var how = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
            if (!OperatingSystem.IsWindows())
            {
                how.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
            }
            await using (var to = new FileStream(target, how))
            {
                await response.Content.CopyToAsync(to, cancel).ConfigureAwait(false);
            }
            Listing.Say(client.Format(parsed), $"Saved {target} for {found.GroupPath}. Whoever has it can join a computer with it; on the computer: sudo dpkg -i {Path.GetFileName(target)}", found, WireJson.Default.InstallerInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Revoke(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("revoke", "Ends an installer. Hosts that joined with it stay.", "umbrek installer revoke 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var revoked = await api.ActAsync($"installers/{found.Id}/revoke", WireJson.Default.InstallerInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The installer for {revoked.GroupPath} is revoked; {revoked.Uses} hosts joined with it and stay.", revoked, WireJson.Default.InstallerInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static void PrintDetail(OutputFormat format, InstallerDetail detail) => Listing.PrintOne(format, detail, WireJson.Default.InstallerDetail,
        ("Group", detail.Info.GroupPath),
        ("State", State(detail.Info)),
        ("Note", detail.Info.Note),
        ("Expires", Words.Iso(detail.Info.ExpiresAt)),
        ("Used", $"{detail.Info.Uses} of {(detail.Info.MaxUses is { } most ? $"{most}" : "any number")}"),
        ("Approval", detail.Info.ApprovalNeeded ? "each computer waits for a person" : "not needed"),
        ("Allowed", detail.Info.Policy.Allowed.Count == 0 ? "nothing" : string.Join(", ", detail.Info.Policy.Allowed.Select(HostPolicyWords.Describe))),
        ("Consent", HostPolicyWords.Describe(detail.Info.Policy.Consent)),
        ("Notice", HostPolicyWords.Describe(detail.Info.Policy.Notice)),
        ("Takes the key", detail.Info.Policy.KeyFor is { Count: > 0 } acts ? string.Join(", ", acts.Select(HostPolicyWords.Describe)) : null),
        ("Restart", detail.Info.Policy.PutOffMinutes is > 0 and var minutes ? HostPolicyWords.DescribePutOff(minutes) : null),
        ("Recording", detail.Info.Policy.Record is > RecordRule.None and var record ? HostPolicyWords.Describe(record) : null),
        ("Access key", detail.Info.AccessKey switch { AccessKeyRule.Generate => "made by the host, kept in the vault", AccessKeyRule.AskAtInstall => "chosen by whoever installs", _ => "none" }),
        ("Link", detail.Link),
        ("One line", detail.Command),
        ("With the agent at hand", detail.SilentCommand),
        ("Mind", detail.Info.State == InstallerState.Valid ? "Whoever has the link or a line can join a computer with it." : "It lets nobody in any more."));

    private static Argument<string> IdArgument() => new("id") { Description = "The installer's id, or the last characters of it." };

    private static async Task<InstallerInfo> FindAsync(ApiClient api, string id, CancellationToken cancel)
    {
        var page = await api.GetAsync("installers", WireJson.Default.PageInstallerInfo, cancel).ConfigureAwait(false);
        return ShortIds.Find(page.Items, t => t.Id, id, "installer", "umbrek installer list");
    }

    private static string State(InstallerInfo info) => info.State == InstallerState.UsedUp ? "used up" : info.State.ToString().ToLowerInvariant();
}
