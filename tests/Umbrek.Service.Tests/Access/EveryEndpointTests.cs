using System.Net;
using System.Reflection;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Routing;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Access;

/// <summary>
/// Every endpoint and every method of the live hub, asked by somebody of each built-in role, inside what he was granted and outside.
/// What is expected follows from what each declares; what each declares is pinned below.
/// </summary>
public sealed class EveryEndpointTests
{
    private const string Inside = "Saltmarsh Ferry";
    private const string Outside = "Copperbeech Libraries";

    /// <summary>Where each permission is needed. A line that changes here changes who may do something: be sure of it.</summary>
    private const string Declared = """
        actOnAlerts          Somewhere  configure
        actOnDeliveries      Somewhere  configure
        addField             Group      configure
        addPasskey           InPerson   see
        addRelease           Everywhere administer
        addScriptVersion     Somewhere  run
        addTeamMember        Everywhere administer
        allowPairing         InPerson   see
        answerInvitation     Own        see
        backUpVault          Everywhere administer
        beginLinkedLogin     InPerson   see
        beginPasskey         InPerson   see
        beginSecondFactor    InPerson   see
        cancelJob            Somewhere  run or power or write-files
        cancelKeyRotation    Somewhere  administer
        cancelRollout        Somewhere  software
        cancelRun            Somewhere  run or power or write-files
        cancelScan           Somewhere  scan
        cancelTwinTurn       Somewhere  read-files
        changeCheck          Somewhere  configure
        changeCustomer       Group      configure
        changeGrant          Somewhere  administer
        changeGroup          Group      configure
        changeGroupPolicy    Group      administer
        changeHost           Host       configure
        changeHostPolicy     Host       administer
        changeMailSettings   Everywhere administer
        changeMaintenance    Somewhere  configure
        changeNotice         Somewhere  configure
        changePassword       InPerson   see
        changePolicy         Everywhere administer
        changeReaction       Somewhere  configure
        changeRole           Everywhere administer
        changeScript         Somewhere  run
        changeSecret         Somewhere  configure
        changeSelection      Own        see
        changeSignInSettings Everywhere administer
        checkSelection       Own        see
        compareAnswers       Somewhere  run or power or write-files
        compareScriptVersions Somewhere  run
        completeSelection    Own        see
        confirmDevice        InPerson   see
        confirmSecondFactor  InPerson   see
        createCheck          Somewhere  configure
        createGrant          Somewhere  administer
        createGroup          Somewhere  configure
        createInstaller      Somewhere  approve
        createJob            Somewhere  run or power or write-files
        createKeyRotation    Somewhere  administer
        createMaintenance    Somewhere  configure
        createNotice         Somewhere  configure
        createParcel         Somewhere  write-files
        createReaction       Somewhere  configure
        createRole           Everywhere administer
        createRollout        Somewhere  software
        createScript         Somewhere  run
        createSecret         Somewhere  configure
        createShelf          Somewhere  write-files
        createTeam           Everywhere administer
        createTechnician     Everywhere administer
        createToken          InPerson   see
        createTwin           Somewhere  write-files
        decideEnrolments     Somewhere  approve
        deleteParcel         Somewhere  write-files
        deleteRecording      Somewhere  administer
        downloadOutput       Somewhere  run or power or write-files
        editHosts            Somewhere  configure
        endMaintenance       Somewhere  configure
        endOtherSignIns      InPerson   see
        endSession           Somewhere  see
        endShell             Host       shell
        endSignIn            Own        see
        explainGroupAccess   Group      see
        explainHostAccess    Host       see
        exportAudit          Everywhere administer
        exportTree           Own        see
        fillScript           Somewhere  run
        findHosts            Own        see
        foldAnswers          Somewhere  run or power or write-files
        forgetDevice         InPerson   see
        getAccessMatrix      Somewhere  administer
        getAlert             Somewhere  see
        getCustomer          Group      see
        getDelivery          Somewhere  see
        getFilm              Somewhere  see
        getFilmContent       Somewhere  see
        getGroupPolicy       Group      see
        getHost              Host       see
        getHostPolicy        Host       see
        getInstaller         Somewhere  approve
        getInstallerPackage  Somewhere  approve
        getJob               Somewhere  see
        getKeyRotation       Somewhere  administer
        getMailSettings      Everywhere administer
        getMaintenance       Somewhere  see
        getMaintenanceCalendar Somewhere  see
        getMe                Own        see
        getMetrics           Own        see
        getNotice            Somewhere  see
        getOutput            Somewhere  run or power or write-files
        getOverview          Own        see
        getPairing           Own        see
        getParcel            Somewhere  write-files
        getParcelList        Somewhere  write-files
        getPolicy            Own        see
        getPreference        Own        see
        getReaction          Somewhere  see
        getRecording         Somewhere  see
        getRecordingContent  Somewhere  see
        getRollout           Somewhere  software
        getRun               Somewhere  see
        getRunbookDocument   Somewhere  run
        getScan              Somewhere  scan
        getScript            Somewhere  run
        getSecret            Somewhere  use-secrets
        getSeries            Host       see
        getSession           Somewhere  see
        getShelf             Somewhere  read-files
        getShelfContent      Somewhere  read-files
        getSignInSettings    Own        see
        getTimeline          Host       see
        getTrend             Own        see
        getTwin              Somewhere  read-files
        getVault             Everywhere administer
        getWake              Host       power
        importTree           Somewhere  configure
        listAlerts           Own        see
        listAudit            Everywhere administer
        listChecks           Own        see
        listColleagues       Host       watch
        listCustomers        Own        see
        listDeliveries       Own        see
        listDevices          Own        see
        listEnrolments       Somewhere  approve
        listGrants           Own        see
        listGroups           Own        see
        listHostProbes       Host       see
        listHosts            Own        see
        listInstallers       Somewhere  approve
        listInvitations      Own        see
        listJobs             Own        see
        listKeyRotations     Somewhere  administer
        listLinkedLogins     Own        see
        listLogons           Host       use-secrets
        listMaintenance      Own        see
        listMarks            Own        see
        listNotices          Own        see
        listParcels          Somewhere  write-files
        listPasskeys         Own        see
        listPolicies         Own        see
        listProbedHosts      Somewhere  see
        listReactions        Own        see
        listRecordings       Own        see
        listReleases         Somewhere  software
        listRoles            Own        see
        listRollouts         Somewhere  software
        listScans            Somewhere  scan
        listScreens          Host       watch
        listScripts          Somewhere  run
        listSecrets          Own        see
        listSelections       Own        see
        listSessionActs      Somewhere  see
        listSessions         Own        see
        listShelfEntries     Somewhere  read-files
        listShells           Host       shell
        listShelves          Somewhere  read-files
        listSignIns          Own        see
        listTeams            Own        see
        listTechnicians      Own        see
        listTwinActs         Somewhere  read-files
        listTwins            Somewhere  read-files
        makeFilm             Somewhere  see
        markHost             Host       see
        mergeHost            Host       configure
        noteSession          Somewhere  see
        openChannel          Somewhere  see
        openSession          Host       see
        openedHost           Host       see
        readRunbookDocument  Somewhere  run
        refreshHost          Host       see
        refusePairing        InPerson   see
        removeCheck          Somewhere  configure
        removeField          Group      configure
        removeGroup          Group      configure
        removeLinkedLogins   InPerson   see
        removeMaintenance    Somewhere  configure
        removeNotice         Somewhere  configure
        removePasskey        InPerson   see
        removeReaction       Somewhere  configure
        removeRole           Everywhere administer
        removeScript         Somewhere  run
        removeSecondFactor   InPerson   see
        removeSecret         Somewhere  administer
        removeSelection      Own        see
        removeShelf          Somewhere  write-files
        removeTeam           Everywhere administer
        removeTeamMember     Everywhere administer
        removeTechnician     Everywhere administer
        removeTwin           Somewhere  read-files
        renewNoticeSecret    Somewhere  configure
        renewRecoveryCodes   InPerson   see
        resetSecondFactor    Everywhere administer
        restoreHost          Host       configure
        restoreVault         Everywhere administer
        retireHost           Host       configure
        revealSecret         Somewhere  reveal-secrets
        revokeGrant          Somewhere  administer
        revokeInstaller      Somewhere  approve
        rotateVaultKey       Everywhere administer
        runAgain             Somewhere  run or power or write-files
        saveSelection        Own        see
        searchOutput         Somewhere  run or power or write-files
        sendInvitation       Host       watch
        sendParcelContent    Somewhere  write-files
        setCheck             Somewhere  configure
        setMail              Everywhere administer
        setOwnMail           InPerson   see
        setPreference        Own        see
        signOut              Own        see
        startScan            Somewhere  scan
        stopFilm             Somewhere  see
        tryCheck             Own        see
        tryNotice            Somewhere  configure
        tryProbe             Somewhere  configure
        turnTwin             Somewhere  write-files
        typeSecret           Host       control
        wakeHosts            Somewhere  power
        withdrawInvitation   Own        see
        """;

    [Fact]
    public async Task Each_endpoint_needs_what_is_written_down()
    {
        await using var service = await TestService.StartAsync();
        var declared = Endpoints(service).Select(e => $"{e.Name,-20} {(e.Need.InPerson ? "InPerson" : e.Need.At),-10} {PermissionWords.Word(e.Need.Permission)}{string.Concat(e.Need.Instead.Select(other => $" or {PermissionWords.Word(other)}"))}").Order(StringComparer.Ordinal);
        declared.ShouldBe(Declared.Split('\n').Select(l => l.Trim('\r')));
    }

    /// <summary>With a read-only token somebody changed where its maker's mail goes, took passkeys away and linked themselves to the account.</summary>
    [Fact]
    public async Task A_token_of_a_script_does_nothing_to_the_account_of_its_maker()
    {
        await using var service = await TestService.StartAsync();
        var made = await service.Api.PostAsync("me/tokens", new NewToken("report", [Permission.See], DateTimeOffset.UtcNow.AddDays(1), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        foreach (var endpoint in Endpoints(service).Where(e => e.Need.InPerson))
        {
            var path = System.Text.RegularExpressions.Regex.Replace(endpoint.Pattern, @"\{[^}]+\}", $"{Guid.NewGuid()}");
            var (status, body, _) = await service.SendAsync(new HttpMethod(endpoint.Method), path, $$"""{"password":"{{TestService.Password}}"}""", adjust: r => r.Headers.Authorization = new("Bearer", made.Token));
            (endpoint.Name, status).ShouldBe((endpoint.Name, HttpStatusCode.Forbidden));
            body.ShouldContain("A token for a script does nothing to the account of its maker");
        }
        // Of whatever else somebody keeps of their own a token of theirs may only read, but for ending itself.
        Endpoints(service).Where(e => e.Pattern.Contains("/me/", StringComparison.Ordinal) && e.Method != "GET" && !e.Need.InPerson).Select(e => e.Name).ShouldBe(["endSignIn"]);
    }

    [Fact]
    public void Each_method_of_the_live_hub_has_declared_what_it_needs() =>
        HubMethods().Where(m => m.GetCustomAttribute<NeedsAttribute>() is null).Select(m => m.Name).ShouldBeEmpty();

    [Fact]
    public void An_endpoint_that_has_not_keeps_the_service_from_starting()
    {
        var builder = WebApplication.CreateSlimBuilder();
        var app = builder.Build();
        app.MapGet("/api/v1/forgotten", () => "");
        Should.Throw<InvalidOperationException>(() => EndpointNeeds.Check(((IEndpointRouteBuilder)app).DataSources.Single())).Message.ShouldContain("/api/v1/forgotten");
    }

    [Fact]
    public async Task All_endpoints_are_looked_at_when_the_service_starts()
    {
        await using var service = await TestService.StartAsync();
        Endpoints(service).Count.ShouldBe(Declared.Split('\n').Length);
    }

    [Theory]
    [InlineData("lead")]
    [InlineData("technician")]
    [InlineData("viewer")]
    public async Task Everybody_gets_through_where_his_role_holds_and_nowhere_else(string roleName)
    {
        var role = Role.BuiltIn.Single(r => r.Name == roleName);
        await using var world = await World.MakeAsync(role);
        var wrong = new List<string>();
        foreach (var endpoint in Endpoints(world.Service).Where(e => e.Name != "signOut"))
        {
            foreach (var inside in new[] { true, false })
            {
                var (status, body) = await world.AskAsync(endpoint, inside);
                if (Judge(endpoint, role, inside, status, body) is { } problem)
                {
                    wrong.Add($"{endpoint.Name} {(inside ? "inside" : "outside")}: {problem}: {(int)status} {body[..Math.Min(200, body.Length)]}");
                }
            }
        }
        wrong.ShouldBeEmpty();
    }

    [Theory]
    [InlineData("lead")]
    [InlineData("technician")]
    [InlineData("viewer")]
    public async Task A_live_view_shows_what_the_role_holds_and_nothing_else(string roleName)
    {
        var role = Role.BuiltIn.Single(r => r.Name == roleName);
        await using var world = await World.MakeAsync(role);
        await using var line = await world.Service.LiveAsync(world.Who);
        foreach (var method in HubMethods())
        {
            var need = method.GetCustomAttribute<NeedsAttribute>()!;
            foreach (var inside in new[] { true, false })
            {
                object?[] arguments = method.Name switch
                {
                    "Selected" => ["all"],
                    "Scan" => [world.Scans[inside]],
                    "Job" or "JobBoard" => [world.Jobs[inside]],
                    "Run" => [world.Runs[inside]],
                    "Estate" or "Enrolments" or "Jobs" or "Alerts" or "Invitations" => [],
                    _ => throw new InvalidOperationException($"{method.Name} is new; say what it is asked with."),
                };
                using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(method.Name == "Jobs" ? 1 : 20));
                var told = "";
                var refused = false;
                try
                {
                    await foreach (var item in line.StreamAsyncCore<System.Text.Json.JsonElement>(method.Name, arguments!, enough.Token))
                    {
                        told += item.GetRawText();
                        if (method.Name is not ("Job" or "JobBoard" or "Run"))
                        {
                            break;
                        }
                    }
                }
                catch (HubException)
                {
                    refused = true;
                }
                catch (OperationCanceledException) when (method.Name == "Jobs")
                {
                    // Nothing new came: that is what it says.
                }
                var ofOnePlace = arguments.OfType<Guid>().Any();
                var mayAtAll = need.At == NeedAt.Own || role.Permissions.Contains(need.Permission);
                refused.ShouldBe(!mayAtAll || (ofOnePlace && !inside), $"{method.Name} {(inside ? "inside" : "outside")}");
                told.ShouldNotContain(World.HiddenHost);
                told.ShouldNotContain(Outside);
                if (method.Name is "Job" or "JobBoard" or "Run" && inside)
                {
                    told.Contains("\"data\"", StringComparison.Ordinal).ShouldBe(method.Name != "JobBoard" && role.Permissions.Contains(Permission.Run));
                }
            }
        }
    }

    /// <returns>What is wrong, or null.</returns>
    private static string? Judge(Asked endpoint, Role role, bool inside, HttpStatusCode status, string body)
    {
        var holds = role.Permissions.Contains(endpoint.Need.Permission);
        if ((int)status >= 500 && status != HttpStatusCode.BadGateway)
        {
            return "the service failed";
        }
        if (status == HttpStatusCode.Unauthorized)
        {
            return "taken for a stranger";
        }
        // Names that were asked about come back in what is said of them.
        if (!endpoint.NamesPlace && (body.Contains(World.HiddenHost, StringComparison.Ordinal) || body.Contains(Outside, StringComparison.Ordinal)))
        {
            return "tells of what he may not see";
        }
        var refused = status == HttpStatusCode.Forbidden && body.Contains("not-allowed", StringComparison.Ordinal);
        var hidden = status == HttpStatusCode.NotFound;
        return (endpoint.Need.At, holds, inside) switch
        {
            (NeedAt.Own, _, _) when endpoint.Name is "changeSelection" or "removeSelection" => refused ? null : "another's selection was changed",
            (NeedAt.Own, _, _) => refused || (hidden && endpoint.Name is not ("endSignIn" or "confirmDevice" or "forgetDevice" or "removePasskey" or "answerInvitation" or "withdrawInvitation")) ? "refused what everybody may" : null,
            (NeedAt.Everywhere, _, _) => refused ? null : "let through though the grant is not on everything",
            (NeedAt.Somewhere, false, _) => refused ? null : "let through without the permission",
            (NeedAt.Host or NeedAt.Group, _, false) => hidden ? null : "not hidden",
            (_, false, true) => refused ? null : "let through without the permission",
            (_, true, true) when endpoint.Name == "refreshHost" => refused || hidden ? "refused" : null,
            (_, true, true) => refused || hidden ? "refused though the role holds it" : null,
            (NeedAt.Somewhere, true, false) when endpoint.Name is "createScript" or "createParcel" or "readRunbookDocument" => refused ? "refused what is at no place" : null,
            // A listing is there for everybody who may see some of it.
            (NeedAt.Somewhere, true, false) => endpoint.IsListing ? (refused || hidden ? "refused a listing" : null) : refused || hidden || status == HttpStatusCode.UnprocessableEntity || body.Contains("\"problems\":[{", StringComparison.Ordinal) ? null : "let through outside the grant",
            _ => "not thought of",
        };
    }

    private sealed record Asked(string Name, string Method, string Pattern, NeedsAttribute Need)
    {
        public bool IsListing => Method == "GET" && !Pattern.Contains('{', StringComparison.Ordinal);

        public bool NamesPlace => Method != "GET";
    }

    private static List<Asked> Endpoints(TestService service) =>
    [
        .. service.Get<EndpointDataSource>().Endpoints.OfType<RouteEndpoint>().Where(e => e.Metadata.GetMetadata<NeedsAttribute>() is not null)
            .Select(e => new Asked(e.Metadata.GetMetadata<IEndpointNameMetadata>()!.EndpointName, e.Metadata.GetMetadata<IHttpMethodMetadata>()!.HttpMethods.Single(), e.RoutePattern.RawText!, e.Metadata.GetMetadata<NeedsAttribute>()!)),
    ];

    private static IEnumerable<MethodInfo> HubMethods() =>
        typeof(LiveHub).GetMethods(BindingFlags.Public | BindingFlags.Instance | BindingFlags.DeclaredOnly).Where(m => !m.IsVirtual);

    /// <summary>One host, job, installer and so on inside what somebody was granted, and one outside.</summary>
    private sealed class World(TestService service, ApiClient who) : IAsyncDisposable
    {
        public const string HiddenHost = "orrin-desk-01";
        public const string OwnHost = "quay-ticket-01";

        public TestService Service => service;
        public ApiClient Who => who;
        public Dictionary<bool, Guid> Hosts { get; } = [];
        public Dictionary<bool, Guid> Groups { get; } = [];
        private Dictionary<bool, Guid> Customers { get; } = [];
        private Guid Field { get; set; }
        public Dictionary<bool, Guid> Jobs { get; } = [];
        public Dictionary<bool, Guid> Runs { get; } = [];
        private Dictionary<bool, Guid> Installers { get; } = [];
        private Dictionary<bool, Guid> Waiting { get; } = [];
        public Dictionary<bool, Guid> Scans { get; } = [];
        private Dictionary<bool, Guid> Rollouts { get; } = [];
        private Dictionary<bool, Guid> Grants { get; } = [];
        private Dictionary<bool, Guid> Sessions { get; } = [];
        private Dictionary<bool, Guid> Recordings { get; } = [];
        private Dictionary<bool, Guid> Secrets { get; } = [];
        private Dictionary<bool, Guid> KeyRotations { get; } = [];

        /// <summary>Not of a place: inside is one's own, outside another's that is not shared.</summary>
        private Dictionary<bool, Guid> Scripts { get; } = [];
        private Dictionary<bool, Guid> Parcels { get; } = [];
        private Dictionary<bool, Guid> Twins { get; } = [];
        private Dictionary<bool, Guid> Shelves { get; } = [];
        private Dictionary<bool, Guid> Alerts { get; } = [];
        private Dictionary<bool, Guid> Checks { get; } = [];
        private Dictionary<bool, Guid> Notices { get; } = [];
        private Dictionary<bool, Guid> Deliveries { get; } = [];
        private Dictionary<bool, Guid> Windows { get; } = [];
        private Dictionary<bool, Guid> Reactions { get; } = [];
        private Guid Selection { get; set; }
        private Guid Team { get; set; }
        private Guid OwnRole { get; set; }
        private Guid Somebody { get; set; }

        public static async Task<World> MakeAsync(Role role)
        {
            var service = await TestService.StartAsync();
            var world = new World(service, await service.JoinedByAsync("Tomasz Vail", role.Name, Inside));
            var api = service.Api;
            foreach (var (inside, name, group) in new[] { (true, OwnHost, TestService.Group), (false, HiddenHost, Outside) })
            {
                await using (var host = await LinkAsync(service, name, group))
                {
                    world.Hosts[inside] = (await service.HostAsync(name)).Id;
                    var job = await api.PostAsync("jobs", new NewJob(name, new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
                    world.Jobs[inside] = job.Id;
                    await Umbrek.Tests.Wait.UntilAsync(async () => (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Succeeded == 1, "the run");
                    world.Runs[inside] = (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single().Id;
                }
                var installer = await service.NewInstallerAsync(new NewInstaller(group, ApprovalNeeded: true));
                world.Installers[inside] = installer.Info.Id;
                await service.EnrolAsync($"{name}-next", installer.Token);
                var groups = (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items;
                world.Groups[inside] = groups.Single(g => g.Path == group).Id;
                world.Customers[inside] = groups.Single(g => g.Path == (inside ? Inside : Outside)).Id;
                await api.PostAsync("technicians", new NewTechnician($"Helper {group.Length}", TestService.Password), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, default);
                world.Grants[inside] = (await service.GrantAsync($"Helper {group.Length}", "viewer", inside ? Inside : Outside)).Id;
                await world.SeedAsync(inside);
            }
            foreach (var waiting in await service.WaitingAsync())
            {
                world.Waiting[waiting.GroupPath.StartsWith(Inside, StringComparison.Ordinal)] = waiting.Id;
            }
            world.Field = (await api.PostAsync($"customers/{world.Customers[true]}/fields", new NewOwnField("Deck", Core.Estate.OwnFieldKind.Text), WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, default)).Fields.Single().Id;
            world.Selection = (await api.PostAsync("selections", new NewSavedSelection("Nearly full", "storage.used > 85 %"), WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, default)).Id;
            world.Team = (await api.PostAsync("teams", new NewTeam("Coast"), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, default)).Id;
            world.OwnRole = (await api.PostAsync("roles", new NewRole("files", [Permission.ReadFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default)).Id;
            world.Somebody = (await api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, default)).Items.First(t => t.Name.StartsWith("Helper", StringComparison.Ordinal)).Id;
            return world;
        }

        public async Task<(HttpStatusCode Status, string Body)> AskAsync(Asked endpoint, bool inside)
        {
            var path = endpoint.Pattern.Replace("{id:guid}", $"{IdFor(endpoint, inside)}").Replace("{fieldId:guid}", $"{Field}").Replace("{technicianId:guid}", $"{Somebody}").Replace("{deviceId:guid}", $"{Guid.Empty}").Replace("{shellId:guid}", $"{Guid.Empty}").Replace("{passkeyId}", "none").Replace("{code}", service.Get<Pairings>().Begin("laptop", null, $"{Guid.NewGuid()}").Code).Replace("{name}", "hosts").Replace("{key}", $"loud-{inside}".ToLowerInvariant());
            using var request = new HttpRequestMessage(new HttpMethod(endpoint.Method), path.TrimStart('/') + Query(endpoint.Name, inside));
            if (Body(endpoint.Name, inside) is { } body)
            {
                request.Content = new StringContent(body, Encoding.UTF8, "application/json");
            }
            request.Headers.TryAddWithoutValidation("If-Match", "\"1\"");
            using var http = new HttpClient { BaseAddress = service.Address };
            http.DefaultRequestHeaders.Authorization = who.Http.DefaultRequestHeaders.Authorization;
            using var answer = await http.SendAsync(request);
            return (answer.StatusCode, await answer.Content.ReadAsStringAsync());
        }

        public async ValueTask DisposeAsync()
        {
            who.Dispose();
            await service.DisposeAsync();
        }

        private static async Task<Simulation.Links.LightHost> LinkAsync(TestService service, string name, string group)
        {
            var (identity, host) = await service.EnrolAsync(name, group: group);
            var light = new Simulation.Links.LightHost(identity, host, TimeProvider.System);
            await light.ConnectAsync(default);
            return light;
        }

        /// <summary>A scan and an update that are over: neither needs a host that answers now.</summary>
        private async Task SeedAsync(bool inside)
        {
            await using var db = service.Get<IDatabase>().Open();
            var release = db.Releases.First().Id;
            var (scan, rollout, now) = (Guid.CreateVersion7(), Guid.CreateVersion7(), DateTimeOffset.UtcNow);
            db.Scans.Add(new ScanRow { Id = scan, HostId = Hosts[inside], Range = "198.51.100.0/30", Ports = "22", ProbesPerSecond = 1, State = ScanState.Done, StartedAt = now, EndedAt = now, StartedBy = TestService.Name });
            db.Rollouts.Add(new RolloutRow { Id = rollout, ReleaseId = release, Selection = "all", State = RolloutState.Done, CreatedAt = now, CreatedBy = TestService.Name, ReturnWithinSeconds = 60 });
            db.RolloutHosts.Add(new RolloutHostRow { RolloutId = rollout, HostId = Hosts[inside], Wave = 1, State = UpdateState.Updated, At = now });
            var (session, rotation) = (Guid.CreateVersion7(), Guid.CreateVersion7());
            var tomasz = db.Users.Single(t => t.UserName == "Tomasz Vail").Id;
            db.Sessions.Add(new SessionRow { Id = session, HostId = Hosts[inside], TechnicianId = tomasz, Technician = "Tomasz Vail", OpenedAt = now, EndedAt = now, EndReason = "it is over" });
            var recording = Guid.CreateVersion7();
            db.Recordings.Add(new RecordingRow { Id = recording, SessionId = session, HostId = Hosts[inside], TechnicianId = tomasz, Technician = "Tomasz Vail", BeganAt = now, EndedAt = now });
            await service.Get<Umbrek.Service.Sessions.RecordingFiles>().Create(recording, RecordingKind.Shell).DisposeAsync();
            Recordings[inside] = recording;
            db.KeyRotations.Add(new KeyRotationRow { Id = rotation, Selection = "all", IsOver = true, CreatedAt = now, CreatedBy = TestService.Name });
            db.KeyRotationHosts.Add(new KeyRotationHostRow { RotationId = rotation, HostId = Hosts[inside], State = KeyRotationState.Changed, At = now });
            await db.SaveChangesAsync();
            (Scans[inside], Rollouts[inside], Sessions[inside], KeyRotations[inside]) = (scan, rollout, session, rotation);
            var alert = new AlertRow { Id = Guid.CreateVersion7(), HostId = Hosts[inside], Check = "storage-high", CheckName = "Storage nearly full", RaisedAt = now, StateAt = now, What = "It is full." };
            await service.Get<Umbrek.Service.Health.AlertBook>().TurnAsync([alert], [], default);
            Alerts[inside] = alert.Id;
            Checks[inside] = (await service.Api.PostAsync("checks", new NewCheck($"Loud {inside}", Core.Health.Subsystem.Hardware, Core.Health.Severity.Warning, "temperature > 55", GroupId: Customers[inside]), WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default)).Id!.Value;
            Notices[inside] = (await service.Api.PostAsync("notices", new NewNotice("Desk", NoticeWay.Hook, GroupId: Customers[inside], Url: "http://127.0.0.1:9/"), WireJson.Default.NewNotice, WireJson.Default.NoticeMade, default)).Notice.Id;
            var delivery = new DeliveryRow { Id = Guid.CreateVersion7(), NoticeId = Notices[inside], Way = NoticeWay.Hook, To = "http://127.0.0.1:9/", Subject = "raised", Body = "{}", State = DeliveryState.Failed, CreatedAt = now, NextAt = now, DoneAt = now };
            db.Deliveries.Add(delivery);
            await db.SaveChangesAsync();
            Deliveries[inside] = delivery.Id;
            Windows[inside] = (await service.Api.PostAsync("maintenance", new NewMaintenance("New disk", 60, HostId: Hosts[inside]), WireJson.Default.NewMaintenance, WireJson.Default.MaintenanceInfo, default)).Id;
            var author = inside && (await who.GetAsync("me", WireJson.Default.Me, default)).Anywhere.Contains(Permission.Run) ? who : service.Api;
            var sender = inside && (await who.GetAsync("me", WireJson.Default.Me, default)).Anywhere.Contains(Permission.WriteFiles) ? who : service.Api;
            Parcels[inside] = (await sender.PostAsync("parcels", new NewParcel([new Core.Files.ParcelEntry(new Core.Files.FileName("labels"), Core.Files.FileKind.Folder)]), WireJson.Default.NewParcel, WireJson.Default.ParcelInfo, default)).Id;
            Shelves[inside] = (await service.Api.PostAsync("shelves", new NewShelf($"{Guid.NewGuid():N}", Groups[inside]), WireJson.Default.NewShelf, WireJson.Default.ShelfInfo, default)).Id;
            Twins[inside] = (await sender.PostAsync("twins", Twin(Hosts[inside]), WireJson.Default.NewTwin, WireJson.Default.TwinInfo, default)).Id;
            Scripts[inside] = (await author.PostAsync("scripts", new NewScript($"{Guid.NewGuid():N}", new CommandSpec { Steps = [new("Look", "true")] }), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default)).Script.Id;
            Reactions[inside] = (await service.Api.PostAsync("reactions", new NewReaction($"{Guid.NewGuid():N}", "storage-high", Scripts[inside], HostId: Hosts[inside]), WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, default)).Id;
            Secrets[inside] = (await service.Api.PostAsync("secrets", new NewSecret(SecretKind.Logon, "seven gulls", HostId: Hosts[inside], Name: "till"), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default)).Id;
        }

        private static NewTwin Twin(Guid host) => new($"{Guid.NewGuid():N}", new TwinPlace(host, new Core.Files.FileName("/srv/one")), new TwinPlace(host, new Core.Files.FileName("/srv/two")), new Core.Files.Twins.TwinRules(Core.Files.Twins.TwinWay.OneWay));

        private Guid IdFor(Asked endpoint, bool inside) => endpoint.Pattern.Split('/')[3] switch
        {
            "hosts" => Hosts[inside],
            "groups" => Groups[inside],
            "customers" => Customers[inside],
            "jobs" => Jobs[inside],
            "runs" => Runs[inside],
            "installers" => Installers[inside],
            "scans" => Scans[inside],
            "rollouts" => Rollouts[inside],
            "grants" => Grants[inside],
            "selections" => Selection,
            "teams" => Team,
            "roles" => OwnRole,
            "technicians" => Somebody,
            "sessions" => Sessions[inside],
            "recordings" => Recordings[inside],
            "secrets" => Secrets[inside],
            "scripts" => Scripts[inside],
            "parcels" => Parcels[inside],
            "twins" => Twins[inside],
            "shelves" => Shelves[inside],
            "key-rotations" => KeyRotations[inside],
            "alerts" => Alerts[inside],
            "checks" => Checks[inside],
            "notices" => Notices[inside],
            "deliveries" => Deliveries[inside],
            "maintenance" => Windows[inside],
            "reactions" => Reactions[inside],
            _ => Guid.Empty,
        };

        private string Query(string name, bool inside) => name switch
        {
            "checkSelection" => "?selection=all",
            "findHosts" => $"?text={(inside ? OwnHost : HiddenHost)}",
            "completeSelection" => $"?text={(inside ? "qu" : "orr")}",
            "addRelease" => "?version=9.9.9",
            "searchOutput" => "?text=a",
            "getShelfContent" => "?path=/",
            "compareScriptVersions" => "?from=1",
            "compareAnswers" => $"?with={Runs[inside]}",
            _ => "",
        };

        /// <summary>What is sent, up to where only the permission is in the way; previews where there are some, so that the next one finds everything in its place.</summary>
        private string? Body(string name, bool inside)
        {
            var host = inside ? OwnHost : HiddenHost;
            var group = inside ? Inside : Outside;
            return name switch
            {
                "changeHost" => """{"label":"another label"}""",
                "retireHost" => """{"preview":true}""",
                "mergeHost" => $$"""{"into":"{{Hosts[inside]}}","preview":true}""",
                "editHosts" => $$"""{"selection":"{{host}}","addTags":["kiosk"],"preview":true}""",
                "actOnAlerts" => $$"""{"ids":["{{Alerts[inside]}}"],"act":"acknowledge"}""",
                "createCheck" => $$"""{"name":"{{Guid.NewGuid():N}}","subsystem":"storage","severity":"warning","when":"storage.used > 80 %","groupId":"{{Customers[inside]}}"}""",
                "changeCheck" => $$"""{"name":"Loud {{inside}}","subsystem":"storage","severity":"warning","when":"storage.used > 80 %","groupId":"{{Customers[inside]}}"}""",
                "setCheck" => $$"""{"check":"storage-high","groupId":"{{Customers[inside]}}","off":true}""",
                "createNotice" or "changeNotice" => $$"""{"name":"Desk","way":"hook","atLeast":"warning","url":"http://127.0.0.1:9/","groupId":"{{Customers[inside]}}"}""",
                "actOnDeliveries" => $$"""{"act":"resend","ids":["{{Deliveries[inside]}}"]}""",
                "changeMailSettings" => """{"port":25,"security":"none"}""",
                "createReaction" or "changeReaction" => $$"""{"name":"{{Guid.NewGuid():N}}","check":"storage-high","scriptId":"{{Scripts[inside]}}","hostId":"{{Hosts[inside]}}"}""",
                "createMaintenance" or "changeMaintenance" => $$"""{"name":"New disk","minutes":60,"hostId":"{{Hosts[inside]}}"}""",
                "setMail" or "setOwnMail" => """{"address":"tomasz@halyard.example"}""",
                "tryProbe" => $$"""{"probe":{"kind":"ping","target":"192.0.2.1"},"on":"{{host}}"}""",
                "tryCheck" => """{"when":"storage.used > 80 %"}""",
                "createGroup" => $$"""{"name":"{{Guid.NewGuid():N}}","parentPath":"{{group}}"}""",
                "changeGroup" => """{"name":"Quay"}""",
                "changeCustomer" => """{"contact":"Wanda Pell"}""",
                "addField" => $$"""{"name":"{{Guid.NewGuid().ToString("N")[..8]}}","kind":"text"}""",
                "saveSelection" => $$"""{"name":"{{Guid.NewGuid():N}}","text":"is away"}""",
                "changeSelection" => """{"name":"Nearly full","text":"storage.used > 90 %"}""",
                "setPreference" => "{}",
                "importTree" => $$"""[{"group":"{{group}}","host":"{{host}}"},{"group":"{{group}}/{{Guid.NewGuid().ToString("N")}}"}]""",
                "runAgain" => $$"""{"runs":["{{Runs[inside]}}"]}""",
                "createScript" => $$"""{"command":{"script":"true"},"name":"{{Guid.NewGuid():N}}"}""",
                "changeScript" => """{"description":"what it is for"}""",
                "addScriptVersion" => """{"command":{"steps":[{"name":"Look","text":"false"}]}}""",
                "readRunbookDocument" => """{"text":"## Look\n```\ntrue\n```"}""",
                "fillScript" => $$"""{"id":"{{Scripts[inside]}}"}""",
                "wakeHosts" => $$"""{"selection":"{{host}}"}""",
                "createParcel" => """{"entries":[{"path":{"text":"labels"},"kind":"folder"}]}""",
                "createShelf" => JsonSerializer.Serialize(new NewShelf($"{Guid.NewGuid():N}", Groups[inside]), WireJson.Default.NewShelf),
                "createTwin" => JsonSerializer.Serialize(Twin(Hosts[inside]), WireJson.Default.NewTwin),
                "turnTwin" => "{}",
                "createJob" => $$"""{"command":{"line":"hostname"},"selection":"{{host}}"}""",
                "decideEnrolments" => $$"""{"ids":["{{Waiting[inside]}}"],"decision":"approve"}""",
                "createInstaller" => $$"""{"groupPath":"{{group}}","accessKey":"none","approvalNeeded":false}""",
                "changePolicy" or "changeGroupPolicy" or "changeHostPolicy" => """{"notice":"during"}""",
                "createSecret" => $$"""{"kind":"logon","secret":"seven gulls","hostId":"{{Hosts[inside]}}","name":"{{Guid.NewGuid():N}}"}""",
                "changeSecret" => """{"note":"the till by the door"}""",
                "revealSecret" => """{"reason":"to see whether I may"}""",
                "createKeyRotation" => $$"""{"selection":"{{host}}"}""",
                "openSession" => "{}",
                "sendInvitation" => $$"""{"colleagueId":"{{Somebody}}"}""",
                "answerInvitation" => """{"comes":true}""",
                "openChannel" => """{"kind":"key"}""",
                "noteSession" => """{"note":"the tide is out"}""",
                "typeSecret" => $$"""{"secretId":"{{Guid.NewGuid()}}"}""",
                "makeFilm" => "{}",
                "backUpVault" => """{"passphrase":"a long passphrase of words"}""",
                "restoreVault" => """{"passphrase":"a long passphrase of words"}""",
                "startScan" => $$"""{"hostId":"{{Hosts[inside]}}","range":"198.51.100.0/30"}""",
                "createRollout" => $$"""{"selection":"{{host}}"}""",
                "createGrant" => $$"""{"technician":"{{TestService.Name}}","role":"viewer","groupPath":"{{group}}"}""",
                "changeGrant" => """{"endsAt":"2099-01-01T00:00:00Z"}""",
                "createTechnician" => $$"""{"name":"{{Guid.NewGuid():N}}","password":"tide-lantern-orchard"}""",
                "createRole" or "changeRole" => $$"""{"name":"{{Guid.NewGuid():N}}","permissions":["see"]}""",
                "createTeam" => $$"""{"name":"{{Guid.NewGuid():N}}"}""",
                "createToken" => $$"""{"name":"report","permissions":["see"],"endsAt":"{{DateTimeOffset.UtcNow.AddDays(1):O}}","password":"{{TestService.Password}}"}""",
                "changePassword" => """{"password":"not the password","newPassword":"another-lantern-orchard"}""",
                "beginSecondFactor" or "removeSecondFactor" or "renewRecoveryCodes" or "beginPasskey" or "beginLinkedLogin" => $$"""{"password":"{{TestService.Password}}"}""",
                "addPasskey" => """{"name":"phone","ceremony":"never begun","credential":{}}""",
                "confirmSecondFactor" => """{"code":"000000"}""",
                "changeSignInSettings" => """{"secondFactorRequired":false}""",
                "addRelease" or "sendParcelContent" => "the program",
                _ => null,
            };
        }
    }
}
