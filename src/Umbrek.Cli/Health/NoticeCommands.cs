using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary><c>umbrek notice</c>: who is told of alerts, and what became of it.</summary>
public static class NoticeCommands
{
    public static Command Notice(ClientContext client)
    {
        var command = ClientCommands.Named("notice", "Who is told of alerts, how and when.", "umbrek notice new 'Ferry team' --team Coast --group 'Saltmarsh Ferry' --quiet 'mon-fri 19:00-07:00, sat-sun'");
        command.Add(List(client), Show(client), New(client), Set(client), Switch(client, off: true), Switch(client, off: false), Try(client), Secret(client), Remove(client), Sent(client), Again(client, DeliveryActKind.Resend), Again(client, DeliveryActKind.Drop), Mail(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists every notice.", "umbrek notice list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Listing.Print(client.Format(parsed), await AllAsync(api, cancel).ConfigureAwait(false), WireJson.Default.ListNoticeInfo, "Nobody is told of anything. Make a notice: umbrek notice new --help",
                new("Notice", n => n.Name),
                new("Tells", Receiver),
                new("Of", What),
                new("When", When),
                new("Arrived", n => n.LastArrivedAt is { } at ? Words.Ago(at, client.Time.GetUtcNow()) : "", Machine: n => Words.Iso(n.LastArrivedAt)),
                new("Trouble", n => n.Failed > 0 ? $"{n.Failed} given up" : n.Trouble is not null ? "yes, see show" : "", Machine: n => n.Trouble ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var name = NameArgument(client);
        var command = ClientCommands.Named("show", "Shows one notice.", "umbrek notice show 'Ferry team'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>What a notice says, as options of the commands that say it.</summary>
    private sealed class Says
    {
        private readonly Option<string[]> to = new("--to") { Description = "A mail address; may be given more than once." };
        private readonly Option<string?> team = new("--team") { Description = "A team: its members get mail about hosts that they may see." };
        private readonly Option<string?> hook = new("--hook") { Description = "Or a web hook's address." };
        private readonly Option<string?> group = new("--group") { Description = "Only hosts of this group and below; everything when left out." };
        private readonly Option<string?> on = new("--on") { Description = "Only hosts of this selection." };
        private readonly Option<string?> severity = new("--from") { Description = "From which severity upwards: information, warning (the default) or critical." };
        private readonly Option<string[]> about = new("--about") { Description = "Only about this subsystem, for example storage; may be given more than once." };
        private readonly Option<string?> after = new("--after") { Description = "Escalates: tells what nobody has taken up for so long, for example 15min." };
        private readonly Option<string[]> daily = new("--daily") { Description = "One mail at this time of day with all that is open, for example 07:30; may be given more than once." };
        private readonly Option<string?> quiet = new("--quiet") { Description = "Quiet hours, for example 'mon-fri 19:00-07:00, sat-sun'; '' for none." };
        private readonly Option<string?> zone = new("--zone") { Description = "Time zone of those, for example Europe/London; UTC when left out." };
        private readonly Option<bool?> critical = new("--critical-always") { Description = "Whether critical alerts are told in quiet hours too; true when left out." };
        private readonly Option<bool?> end = new("--tell-end") { Description = "Whether the end of an alert is told too; true when left out." };

        public void AddTo(Command command) => command.Add(to, team, hook, group, on, severity, about, after, daily, quiet, zone, critical, end);

        /// <param name="before">What it said before; what is left out stays so.</param>
        public async Task<NewNotice> ReadAsync(ParseResult parsed, ApiClient api, NewNotice before, CancellationToken cancel) => before with
        {
            Way = parsed.GetValue(hook) is not null ? NoticeWay.Hook : before.Way,
            Url = parsed.GetValue(hook) ?? before.Url,
            Addresses = parsed.GetValue(to) is { Length: > 0 } addresses ? addresses : before.Addresses,
            TeamId = parsed.GetValue(team) is { } named ? (await TeamAsync(api, named, cancel).ConfigureAwait(false)) : before.TeamId,
            GroupId = parsed.GetValue(group) is { } path ? (await GroupCommands.FindAsync(api, path, cancel).ConfigureAwait(false)).Id : before.GroupId,
            On = parsed.GetValue(on) ?? before.On,
            AtLeast = parsed.GetValue(severity) is { } word ? Typed.Word(word, WireJson.Default.Severity, "severity") : before.AtLeast,
            About = parsed.GetValue(about) is { Length: > 0 } subsystems ? [.. subsystems.Select(s => Typed.Word(s, WireJson.Default.Subsystem, "subsystem"))] : before.About,
            AfterSeconds = parsed.GetValue(after) is { } span ? Typed.Span(span).TotalSeconds : before.AfterSeconds,
            DigestAt = parsed.GetValue(daily) is { Length: > 0 } times ? times : before.DigestAt,
            Quiet = parsed.GetValue(quiet) ?? before.Quiet,
            Zone = parsed.GetValue(zone) ?? before.Zone,
            CriticalAlways = parsed.GetValue(critical) ?? before.CriticalAlways,
            TellsEnd = parsed.GetValue(end) ?? before.TellsEnd,
        };

        private static async Task<Guid> TeamAsync(ApiClient api, string name, CancellationToken cancel)
        {
            var teams = (await api.GetAsync("teams", WireJson.Default.PageTeamInfo, cancel).ConfigureAwait(false)).Items;
            return teams.FirstOrDefault(t => t.Name.Equals(name, StringComparison.OrdinalIgnoreCase))?.Id
                ?? throw new ClientException($"There is no team '{name}'.{(Similarity.Closest(name, teams.Select(t => t.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek team list' shows all.")}", ExitCodes.NothingMatched);
        }
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What people call it." };
        var says = new Says();
        var command = ClientCommands.Named("new", "Tells somebody of alerts, by mail or web hook.", "umbrek notice new Duty --to duty@halyard.example --from critical --after 15min");
        command.Add(name);
        says.AddTo(command);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var wish = await says.ReadAsync(parsed, api, new NewNotice(parsed.GetRequiredValue(name), NoticeWay.Mail), cancel).ConfigureAwait(false);
            var made = await api.PostAsync("notices", wish, WireJson.Default.NewNotice, WireJson.Default.NoticeMade, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{made.Notice.Name}' tells {Receiver(made.Notice)} of {What(made.Notice)}. Try it: umbrek notice try '{made.Notice.Name}'{SecretOf(made)}", made, WireJson.Default.NoticeMade);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Set(ClientContext client)
    {
        var name = NameArgument(client);
        var rename = new Option<string?>("--name") { Description = "Another name." };
        var says = new Says();
        var command = ClientCommands.Named("set", "Changes a notice; what is left out stays as it is.", "umbrek notice set 'Ferry team' --from critical");
        command.Add(name);
        command.Add(rename);
        says.AddTo(command);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var before = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var wish = await says.ReadAsync(parsed, api, Wish(before), cancel).ConfigureAwait(false);
            Print(client, parsed, await ChangeAsync(api, before, wish with { Name = parsed.GetValue(rename) ?? wish.Name }, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Switch(ClientContext client, bool off)
    {
        var name = NameArgument(client);
        var command = off ? ClientCommands.Named("off", "Has a notice tell nobody for now.", "umbrek notice off 'Ferry team'") : ClientCommands.Named("on", "Has a notice tell again.", "umbrek notice on 'Ferry team'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var before = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var after = await ChangeAsync(api, before, Wish(before) with { Off = off }, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), off ? $"'{after.Name}' tells nobody until it is switched on." : $"'{after.Name}' tells {Receiver(after)} of {What(after)}.", after, WireJson.Default.NoticeInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Try(ClientContext client)
    {
        var name = NameArgument(client);
        var to = new Option<string?>("--to") { Description = "One of its addresses, or your own; its first when left out." };
        var command = ClientCommands.Named("try", "Sends something harmless now, and says how that went.", "umbrek notice try 'Ferry team'");
        command.Add(name);
        command.Add(to);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var notice = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var sent = await api.ActAsync($"notices/{notice.Id}/try{(parsed.GetValue(to) is { } address ? $"?to={Uri.EscapeDataString(address)}" : "")}", WireJson.Default.DeliveryInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), sent.State == DeliveryState.Delivered ? $"It has arrived at {sent.To}." : $"It has not arrived at {sent.To}: {sent.Problem}", sent, WireJson.Default.DeliveryInfo);
            return sent.State == DeliveryState.Delivered ? ExitCodes.Done : ExitCodes.Failed;
        });
        return command;
    }

    private static Command Secret(ClientContext client)
    {
        var name = NameArgument(client);
        var command = ClientCommands.Named("secret", "Another secret for a web hook, shown this once; what goes out from now on is signed with it.", "umbrek notice secret 'Observatory desk'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var notice = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var made = await api.ActAsync($"notices/{notice.Id}/secret", WireJson.Default.NoticeMade, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"What '{notice.Name}' sends is signed with another secret from now on.{SecretOf(made)}", made, WireJson.Default.NoticeMade);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = NameArgument(client);
        var command = ClientCommands.Named("remove", "Removes a notice, with what it has not sent yet.", "umbrek notice remove Duty");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var notice = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"notices/{notice.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{notice.Name}' is gone.", notice, WireJson.Default.NoticeInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Sent(ClientContext client)
    {
        var name = new Option<string?>("--notice") { Description = "Only of this notice." };
        var state = new Option<string?>("--state") { Description = "Only waiting, delivered or failed (given up) ones." };
        var limit = new Option<int>("--limit") { Description = "At most so many.", DefaultValueFactory = _ => 50 };
        var command = ClientCommands.Named("sent", "Lists what notices sent, and what did not arrive, newest first.", "umbrek notice sent --state failed");
        command.Add(name, state, limit);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var notice = parsed.GetValue(name) is { } typed ? await FindAsync(api, typed, cancel).ConfigureAwait(false) : null;
            var now = client.Time.GetUtcNow();
            var page = await api.GetAsync($"deliveries?limit={parsed.GetValue(limit)}{(notice is null ? "" : $"&notice={notice.Id}")}{(parsed.GetValue(state) is { } word ? $"&state={Uri.EscapeDataString(word)}" : "")}", WireJson.Default.PageDeliveryInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListDeliveryInfo, "Nothing was sent.",
                new("Id", d => Words.ShortId(d.Id), Machine: d => $"{d.Id}"),
                new("When", d => Words.Ago(d.CreatedAt, now), Machine: d => Words.Iso(d.CreatedAt)),
                new("Notice", d => d.Notice),
                new("To", d => d.To),
                new("Says", d => d.Subject),
                new("State", d => d.State switch { DeliveryState.Delivered => "arrived", DeliveryState.Failed => "given up", _ => d.Attempts == 0 ? "on its way" : $"tried {d.Attempts} times" }, Machine: d => Words.Of(d.State)),
                new("Problem", d => d.Problem ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Again(ClientContext client, DeliveryActKind act)
    {
        var ids = new Argument<string[]>("id") { Description = "What did not arrive, as 'sent' shows it.", Arity = ArgumentArity.ZeroOrMore };
        var name = new Option<string?>("--notice") { Description = "All of this notice that were given up." };
        var command = act == DeliveryActKind.Resend
            ? ClientCommands.Named("resend", "Has what did not arrive tried again, for another day.", "umbrek notice resend --notice 'Observatory desk'")
            : ClientCommands.Named("drop", "Forgets what did not arrive.", "umbrek notice drop --notice 'Observatory desk'");
        command.Add(ids);
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            var typed = parsed.GetValue(ids) ?? [];
            if (typed.Length > 0 == parsed.GetValue(name) is not null)
            {
                throw new ClientException("Name deliveries, or a notice for all of it that were given up.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var notice = parsed.GetValue(name) is { } word ? await FindAsync(api, word, cancel).ConfigureAwait(false) : null;
            List<Guid>? chosen = null;
            if (notice is null)
            {
                var undelivered = (await api.GetAsync("deliveries?limit=1000", WireJson.Default.PageDeliveryInfo, cancel).ConfigureAwait(false)).Items.Where(d => d.State != DeliveryState.Delivered).ToList();
                chosen = [.. typed.Select(t => ShortIds.Find(undelivered, d => d.Id, t, "delivery that did not arrive", "umbrek notice sent").Id)];
            }
            var changed = await api.PostAsync("deliveries/act", new DeliveryAct(act, chosen, notice?.Id), WireJson.Default.DeliveryAct, WireJson.Default.DeliveriesChanged, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), act == DeliveryActKind.Resend ? $"{changed.Count} are tried again." : $"{changed.Count} are forgotten.", changed, WireJson.Default.DeliveriesChanged);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Mail(ClientContext client)
    {
        var command = ClientCommands.Named("mail", "Through which server mail goes out.", "umbrek notice mail show");
        var show = ClientCommands.Named("show", "Shows it; the password is never shown.", "umbrek notice mail show");
        show.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, await api.GetAsync("settings/mail", WireJson.Default.MailSettings, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        var server = new Option<string?>("--server") { Description = "The mail server's name." };
        var port = new Option<int?>("--port") { Description = "Its port: 587 with STARTTLS, 465 with TLS." };
        var security = new Option<string?>("--security") { Description = "start-tls, tls or none." };
        var user = new Option<string?>("--user") { Description = "Whom to sign in as; '' for nobody." };
        var password = new Option<bool>("--password-stdin") { Description = "Read the password from standard input." };
        var from = new Option<string?>("--from") { Description = "The address that mails come from." };
        var console = new Option<string?>("--console") { Description = "Where people open the console, for links in mails." };
        var set = ClientCommands.Named("set", "Sets it; what is left out stays as it is.", "umbrek notice mail set --server mail.halyard.example --from umbrek@halyard.example --console https://umbrek.halyard.example");
        set.Add(server, port, security, user, password, from, console);
        set.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var before = await api.GetAsync("settings/mail", WireJson.Default.MailSettings, cancel).ConfigureAwait(false);
            var wish = new MailSettingsWish(
                parsed.GetValue(server) ?? before.Server, parsed.GetValue(port) ?? before.Port, parsed.GetValue(security) is { } word ? Typed.Word(word, WireJson.Default.MailSecurity, "way to secure mail") : before.Security,
                parsed.GetValue(user) ?? before.User, parsed.GetValue(password) ? Prompt.Password(true, "") : null, parsed.GetValue(from) ?? before.From, parsed.GetValue(console) ?? before.Console);
            Print(client, parsed, await api.PutAsync("settings/mail", wish, before.Version, WireJson.Default.MailSettingsWish, WireJson.Default.MailSettings, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        command.Add(show, set);
        return command;
    }

    private static void Print(ClientContext client, ParseResult parsed, MailSettings m) => Listing.PrintOne(client.Format(parsed), m, WireJson.Default.MailSettings,
        ("Server", m.Server is null ? "none: no mail goes out" : $"{m.Server}:{m.Port}, {m.Security switch { MailSecurity.Tls => "TLS", MailSecurity.StartTls => "STARTTLS", _ => "in clear" }}"),
        ("Signs in", m.User is null ? "no" : $"as {m.User}{(m.HasPassword ? "" : ", without a password")}"),
        ("From", m.From),
        ("Console", m.Console ?? "not said: mails have no links"));

    private static void Print(ClientContext client, ParseResult parsed, NoticeInfo n) => Listing.PrintOne(client.Format(parsed), n, WireJson.Default.NoticeInfo,
        ("Notice", n.Name),
        ("Tells", Receiver(n)),
        ("Of", What(n)),
        ("When", When(n)),
        ("Zone", n.Quiet is null && n.DigestAt is null ? null : n.Zone),
        ("End", n.TellsEnd ? "told too" : "not told"),
        ("Arrived", n.LastArrivedAt is { } at ? Words.Iso(at) : "nothing yet"),
        ("Waiting", n.Waiting == 0 ? null : $"{n.Waiting}"),
        ("Given up", n.Failed == 0 ? null : $"{n.Failed}: umbrek notice sent --notice '{n.Name}' --state failed"),
        ("Trouble", n.Trouble),
        ("Made by", n.CreatedBy));

    private static string Receiver(NoticeInfo n) => n.Url ?? string.Join(", ", (n.Team is { } team ? [$"team {team}"] : Array.Empty<string>()).Concat(n.Addresses));

    private static string What(NoticeInfo n) =>
        $"{(n.AtLeast switch { Severity.Critical => "critical alerts", Severity.Warning => "warnings and worse", _ => "all alerts" })}{(n.About is { } about ? $" about {string.Join(", ", about.Select(Words.Of))}" : "")}{(n.Place is { } place ? $" in {place}" : "")}{(n.On is { } on ? $" on hosts with {on}" : "")}";

    private static string When(NoticeInfo n) =>
        n.Off ? "never: switched off"
        : n.DigestAt is { } times ? $"daily at {string.Join(", ", times)}"
        : $"{(n.AfterSeconds > 0 ? $"not taken up for {Units.Span(TimeSpan.FromSeconds(n.AfterSeconds))}" : "at once")}{(n.Quiet is { } quiet ? $", quiet {quiet}{(n.CriticalAlways ? " but for critical" : "")}" : "")}";

    private static string SecretOf(NoticeMade made) => made.Secret is { } secret ? $"\nIts secret, shown this once: {secret}" : "";

    private static NewNotice Wish(NoticeInfo n) => new(n.Name, n.Way, n.AtLeast, n.GroupId, n.On, n.About, n.TeamId, n.Addresses, n.Url, n.AfterSeconds, n.DigestAt, n.Quiet, n.Zone, n.CriticalAlways, n.TellsEnd, n.Off);

    private static Task<NoticeInfo> ChangeAsync(ApiClient api, NoticeInfo before, NewNotice wish, CancellationToken cancel) =>
        api.PutAsync($"notices/{before.Id}", wish, before.Version, WireJson.Default.NewNotice, WireJson.Default.NoticeInfo, cancel);

    private static Argument<string> NameArgument(ClientContext client)
    {
        var name = new Argument<string>("notice") { Description = "The notice, by its name." };
        name.CompletionSources.Add(_ => Offered.Ask(client, async (api, cancel) => (await AllAsync(api, cancel).ConfigureAwait(false)).Select(n => n.Name)));
        return name;
    }

    private static async Task<List<NoticeInfo>> AllAsync(ApiClient api, CancellationToken cancel) => [.. (await api.GetAsync("notices", WireJson.Default.PageNoticeInfo, cancel).ConfigureAwait(false)).Items];

    private static async Task<NoticeInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = await AllAsync(api, cancel).ConfigureAwait(false);
        return all.FindAll(n => n.Name.Equals(name.Trim(), StringComparison.OrdinalIgnoreCase)) switch
        {
            [var one] => one,
            [] => throw new ClientException($"There is no notice '{name}'.{(Similarity.Closest(name, all.Select(n => n.Name)) is { } close ? $" Did you mean '{close}'?" : "")} 'umbrek notice list' shows them.", ExitCodes.NothingMatched),
            _ => throw new ClientException($"More than one notice is called '{name}'. Give them names of their own in the console.", ExitCodes.NothingMatched),
        };
    }
}
