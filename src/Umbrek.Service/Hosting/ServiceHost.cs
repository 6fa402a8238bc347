using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.DataProtection.AuthenticatedEncryption;
using Microsoft.AspNetCore.DataProtection.AuthenticatedEncryption.ConfigurationModel;
using Microsoft.AspNetCore.Identity;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Protocol;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Serilog;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Desktop;
using Umbrek.Service.Enrolment;
using Umbrek.Service.Estate;
using Umbrek.Service.Files;
using Umbrek.Service.Files.Shelves;
using Umbrek.Service.Files.Twins;
using Umbrek.Service.Health;
using Umbrek.Service.Jobs;
using Umbrek.Service.Links;
using Umbrek.Service.Relay;
using Umbrek.Service.Sessions;
using Umbrek.Service.Shell;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Hosting;

/// <summary>Puts the service together.</summary>
public static class ServiceHost
{
    private const string EitherScheme = "Either";

    /// <summary>Builds the service; nothing listens and no database is touched until <see cref="StartAsync"/>.</summary>
    public static WebApplication Build(ServiceOptions options, TimeProvider time, Action<WebApplicationBuilder>? adjust = null)
    {
        var builder = WebApplication.CreateSlimBuilder(new WebApplicationOptions { ContentRootPath = AppContext.BaseDirectory });
        builder.Configuration.Sources.Clear();
        // Logs go to the terminal's error stream; what a person reads there first is written by the program itself.
        builder.Services.AddSerilog(log => log
            .MinimumLevel.Information()
            .MinimumLevel.Override("Microsoft", Serilog.Events.LogEventLevel.Warning)
            .MinimumLevel.Override("Microsoft.AspNetCore.Server.Kestrel", Serilog.Events.LogEventLevel.Error)
            .MinimumLevel.Override("Microsoft.AspNetCore.DataProtection", Serilog.Events.LogEventLevel.Error)
            .MinimumLevel.Override("Microsoft.AspNetCore.SignalR", Serilog.Events.LogEventLevel.Fatal)
            .WriteTo.Console(
                outputTemplate: "{Timestamp:yyyy-MM-ddTHH:mm:ss.fffzzz} {Level:u4} {SourceContext} {Message:lj}{NewLine}{Exception}",
                standardErrorFromLevel: Serilog.Events.LogEventLevel.Verbose));
        Listen(builder, options);
        AddServices(builder.Services, options, time);
        adjust?.Invoke(builder);
        var app = builder.Build();
        Route(app);
        return app;
    }

    /// <summary>Brings the database up to date, fills the memory from it, and listens.</summary>
    public static async Task StartAsync(WebApplication app, CancellationToken cancel)
    {
        await using (var db = app.Services.GetRequiredService<IDatabase>().Open())
        {
            // Migrating compares the whole model with the last migration first, which takes most of a second.
            if ((await db.Database.GetPendingMigrationsAsync(cancel).ConfigureAwait(false)).Any())
            {
                await db.Database.MigrateAsync(cancel).ConfigureAwait(false);
            }
            await Backfill.RunAsync(db, cancel).ConfigureAwait(false);
        }
        _ = app.Services.GetRequiredService<ReleaseKey>();
        await app.Services.GetRequiredService<ReleaseService>().RegisterOwnAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<ScanService>().SettleAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<EstateIndex>().LoadAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<AccessIndex>().LoadAsync().ConfigureAwait(false);
        await app.Services.GetRequiredService<Vault>().LoadAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<PolicyIndex>().LoadAsync().ConfigureAwait(false);
        await app.Services.GetRequiredService<SelectionService>().LoadAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<CheckBook>().LoadAsync().ConfigureAwait(false);
        await app.Services.GetRequiredService<ProbeBook>().LoadAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<MaintenanceBook>().LoadAsync().ConfigureAwait(false);
        await app.Services.GetRequiredService<NoticeBook>().LoadAsync().ConfigureAwait(false);
        await app.Services.GetRequiredService<ReactionBook>().LoadAsync().ConfigureAwait(false);
        await app.Services.GetRequiredService<AlertBook>().LoadAsync(cancel).ConfigureAwait(false);
        await app.Services.GetRequiredService<RunBook>().LoadAsync(cancel).ConfigureAwait(false);
        await app.StartAsync(cancel).ConfigureAwait(false);
        // Only now are the endpoints made; making them twice would take a second.
        EndpointNeeds.Check(app.Services.GetRequiredService<EndpointDataSource>());
    }

    private static void Listen(WebApplicationBuilder builder, ServiceOptions options)
    {
        builder.Services.AddSingleton<IMemoryPoolFactory<byte>, WideBlocks>();
        builder.WebHost.UseKestrelHttpsConfiguration();
        builder.WebHost.UseSockets(sockets =>
        {
            // When every agent returns at once, the default backlog of 512 overflows and their attempts time out.
            sockets.Backlog = 4096;
            sockets.MaxWriteBufferSize = WideBlocks.Unsent;
        });
        builder.WebHost.ConfigureKestrel((context, kestrel) =>
        {
            kestrel.AddServerHeader = false;
            kestrel.Limits.MaxRequestBodySize = 1 << 20;
            foreach (var address in options.Listen)
            {
                kestrel.Listen(address.Address, address.Port, endpoint =>
                {
                    if (address.Tls)
                    {
                        endpoint.UseSocketWriter();
                        endpoint.UseHttps(endpoint.ApplicationServices.GetRequiredService<ServiceKey>().Certificate);
                    }
                });
            }
        });
    }

    private static void AddServices(IServiceCollection services, ServiceOptions options, TimeProvider time)
    {
        services.AddSingleton(options);
        services.AddSingleton(time);
        services.AddSingleton(_ => ServiceKey.LoadOrCreate(options, time));
        services.AddSingleton<IDatabase>(_ => OpenDatabase(options));
        services.AddScoped(provider => provider.GetRequiredService<IDatabase>().Open());
        services.AddSingleton<ConsoleFiles>();
        services.AddSingleton<FailureLimiter>();

        services.AddSingleton<LinkRegistry>();
        services.AddSingleton<IAgentLinks, LocalAgentLinks>();
        services.AddSingleton<Intake>();
        services.AddHostedService(p => p.GetRequiredService<Intake>());
        services.AddSingleton<EstateIndex>();
        services.AddSingleton<HostClocks>();
        services.AddSingleton<AccessIndex>();
        services.AddSingleton<ChannelBroker>();
        services.AddSingleton<SealedOrders>();
        services.AddSingleton<SessionService>();
        services.AddHostedService(p => p.GetRequiredService<SessionService>());
        services.AddSingleton<InvitationService>();
        services.AddSingleton<Vault>();
        services.AddSingleton<VaultService>();
        services.AddSingleton<VaultedKeys>();
        services.AddSingleton<ActingChannels>();
        services.AddSingleton<ShellService>();
        services.AddSingleton<DesktopService>();
        services.AddSingleton<ParcelFiles>();
        services.AddSingleton<ParcelService>();
        services.AddSingleton<ContentServer>();
        services.AddHostedService(p => p.GetRequiredService<ParcelService>());
        services.AddSingleton<RecordingFiles>();
        services.AddSingleton<RecordingService>();
        services.AddSingleton<FilmService>();
        services.AddHostedService(p => p.GetRequiredService<RecordingService>());
        services.AddSingleton<ViewService>();
        services.AddSingleton<FileService>();
        services.AddSingleton<ShelfFiles>();
        services.AddSingleton<ShelfKeeper>();
        services.AddSingleton<ShelfService>();
        services.AddHostedService(p => p.GetRequiredService<ShelfService>());
        services.AddSingleton<TwinGrounds>();
        services.AddSingleton<TwinFiles>();
        services.AddSingleton<TwinService>();
        services.AddHostedService(p => p.GetRequiredService<TwinService>());
        services.AddSingleton<KeyRotationService>();
        services.AddHostedService(p => p.GetRequiredService<KeyRotationService>());
        services.AddSingleton<HostSides>();
        services.AddSingleton<PolicyIndex>();
        services.AddSingleton<PolicyService>();
        services.AddSingleton<PolicyCourier>();
        services.AddHostedService(p => p.GetRequiredService<PolicyCourier>());
        services.AddSingleton<Gate>();
        services.AddSingleton<RoleService>();
        services.AddSingleton<TeamService>();
        services.AddSingleton<GrantService>();
        services.AddSingleton<AccessReader>();
        services.AddSingleton<GroupService>();
        services.AddSingleton<HostService>();
        services.AddSingleton<SelectionService>();
        services.AddSingleton<BulkEditService>();
        services.AddSingleton<HostLifeService>();
        services.AddSingleton<TimelineReader>();
        services.AddSingleton<CustomerService>();
        services.AddSingleton<OwnMarkService>();
        services.AddSingleton<TreeExchange>();
        services.AddHostedService<PresenceSettler>();
        services.AddSingleton<AuditLog>();
        services.AddSingleton<AgentPrograms>();
        services.AddSingleton<ReleaseKey>();
        services.AddSingleton<SplitTokens>();
        services.AddSingleton<EnrolmentReader>();
        services.AddSingleton<InstallerService>();
        services.AddSingleton<EnrolmentService>();
        services.AddSingleton<Vendors>();
        services.AddSingleton<ScanService>();
        services.AddSingleton<ReleaseService>();
        services.AddSingleton<RolloutService>();
        services.AddHostedService(p => p.GetRequiredService<RolloutService>());
        services.AddSingleton<OutputTerm>();
        services.AddSingleton<OutputPruner>();
        services.AddHostedService(p => p.GetRequiredService<OutputPruner>());
        services.AddSingleton<SamplePruner>();
        services.AddHostedService(p => p.GetRequiredService<SamplePruner>());
        services.AddSingleton<RollupQueue>();
        services.AddHostedService<RollupWriter>();
        services.AddSingleton<SeriesReader>();
        services.AddSingleton<EstateFigures>();
        services.AddSingleton<OpenMetrics>();
        services.AddHostedService<OtlpExport>();
        services.AddSingleton<CheckBook>();
        services.AddSingleton<ProbeBook>();
        services.AddSingleton<ProbeTrials>();
        services.AddHostedService<ProbeCourier>();
        services.AddSingleton<CheckService>();
        services.AddSingleton<AlertBook>();
        services.AddSingleton<AlertService>();
        services.AddSingleton<CheckEngine>();
        services.AddHostedService(p => p.GetRequiredService<CheckEngine>());
        services.AddSingleton<AlertLines>();
        services.AddSingleton<AlertNotices>();
        services.AddSingleton<MaintenanceBook>();
        services.AddSingleton<MaintenanceService>();
        services.AddSingleton<MailSetup>();
        services.AddSingleton<NoticeBook>();
        services.AddSingleton<NoticeService>();
        services.AddSingleton<INoticePost, MailPost>();
        services.AddSingleton<INoticePost, HookPost>();
        services.AddSingleton<NoticeSender>();
        services.AddHostedService(p => p.GetRequiredService<NoticeSender>());
        services.AddSingleton<NoticeEngine>();
        services.AddHostedService(p => p.GetRequiredService<NoticeEngine>());
        services.AddSingleton<ReactionBook>();
        services.AddSingleton<ReactionService>();
        services.AddSingleton<ReactionEngine>();
        services.AddHostedService(p => p.GetRequiredService<ReactionEngine>());
        services.AddSingleton<RunBook>();
        services.AddSingleton<JobFeed>();
        services.AddSingleton<JobReader>();
        services.AddSingleton<Dispatcher>();
        services.AddSingleton<PeopleAnswers>();
        services.AddSingleton<ScriptLibrary>();
        services.AddSingleton<JobService>();
        services.AddSingleton<WakeService>();
        services.AddSingleton<AnswerReader>();
        services.AddSingleton<OutputDownload>();
        services.AddSingleton<Pacer>();
        services.AddHostedService(s => s.GetRequiredService<Pacer>());
        services.AddHostedService<JobClock>();
        services.AddHostedService<SyslogForwarder>();

        AddAccess(services, options);
        AddWire(services);
        services.AddCallLimit(options.CallsPerSecond);
        services.AddExceptionHandler<ProblemWriter>();
        services.Configure<RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
        services.Configure<HostOptions>(o => o.ShutdownTimeout = TimeSpan.FromSeconds(10));
        services.AddOpenApi("v1", ApiDescription.Configure);
    }

    public static IDatabase OpenDatabase(ServiceOptions options) =>
        options.Database is { } connection ? new PostgresDatabase(connection) : new SqliteDatabase(options.PathOf(SqliteDatabase.FileName));

    private static void AddAccess(IServiceCollection services, ServiceOptions options)
    {
        services.AddSingleton<SetUpCode>();
        services.AddSingleton<SignIns>();
        services.AddScoped<TechnicianService>();
        services.AddScoped<SignInService>();
        services.AddSingleton<Pairings>();
        services.AddScoped<PairingService>();
        services.AddScoped<SecondFactorService>();
        services.AddSingleton<Devices>();
        services.AddSingleton<DummyPassword>();
        services.AddSingleton<IPasswordHasher<Technician>, PasswordHasher<Technician>>();
        services.AddSingleton<PasswordTries>();
        services.AddSingleton<PasskeyCeremonies>();
        services.AddScoped<IPasskeyHandler<Technician>, PasskeyHandler<Technician>>();
        services.AddScoped<PasskeyService>();
        services.AddScoped<LinkedLogins>();
        services.AddSingleton<LinkTickets>();
        services.Configure<IdentityPasskeyOptions>(o =>
        {
            // The device unlocks for its holder: that is a second factor by itself.
            o.UserVerificationRequirement = "required";
            o.ResidentKeyRequirement = "required";
        });
        services.AddDataProtection().SetApplicationName("umbrek").PersistKeysToFileSystem(Directory.CreateDirectory(options.PathOf("keys")))
            .UseCryptographicAlgorithms(new AuthenticatedEncryptorConfiguration { EncryptionAlgorithm = EncryptionAlgorithm.AES_256_GCM });
        services.Configure<PasswordHasherOptions>(o => o.IterationCount = options.PasswordIterations);
        services.AddIdentityCore<Technician>(o =>
            {
                o.User.AllowedUserNameCharacters = "";
                o.Password.RequiredLength = 1;
                o.Password.RequireDigit = false;
                o.Password.RequireLowercase = false;
                o.Password.RequireUppercase = false;
                o.Password.RequireNonAlphanumeric = false;
                o.Password.RequiredUniqueChars = 1;
            })
            .AddEntityFrameworkStores<UmbrekContext>()
            .AddPasswordValidator<PasswordStrength>();
        services.AddHttpContextAccessor();
        var authentication = services.AddAuthentication(EitherScheme)
            .AddPolicyScheme(EitherScheme, null, o => o.ForwardDefaultSelector = http =>
                http.Request.Headers.Authorization.Count > 0 ? AccessTokenScheme.Name : IdentityConstants.ApplicationScheme)
            .AddScheme<AuthenticationSchemeOptions, AccessTokenScheme>(AccessTokenScheme.Name, null)
            .AddCookie(IdentityConstants.ApplicationScheme, o =>
            {
                // The prefix keeps other hosts of the domain from planting one; browsers take it over TLS alone (RFC 6265bis, 4.1.3.2).
                o.Cookie.Name = options.IsAllTls ? "__Host-umbrek" : "umbrek";
                o.Cookie.HttpOnly = true;
                o.Cookie.SameSite = SameSiteMode.Strict;
                o.Cookie.SecurePolicy = options.IsAllTls ? CookieSecurePolicy.Always : CookieSecurePolicy.SameAsRequest;
                o.ExpireTimeSpan = SignIns.ConsoleLife;
                o.SlidingExpiration = false;
                o.Events.OnRedirectToLogin = context => Refuse(context.HttpContext);
                o.Events.OnRedirectToAccessDenied = context => Refuse(context.HttpContext);
                o.Events.OnValidatePrincipal = async context =>
                {
                    // The cookie only names a sign-in: whether that still stands, the database says.
                    if (context.Principal is not { } principal || SignIns.IdOf(principal) is not { } id
                        || await context.HttpContext.RequestServices.GetRequiredService<SignIns>().FindAsync(id, context.HttpContext.RequestAborted).ConfigureAwait(false) is null)
                    {
                        context.RejectPrincipal();
                    }
                };
            });
        if (options.SingleSignOn is { } provider)
        {
            SingleSignOn.Add(authentication, provider);
        }
        services.AddAuthorizationBuilder().SetFallbackPolicy(new Microsoft.AspNetCore.Authorization.AuthorizationPolicyBuilder().RequireAuthenticatedUser().Build());
    }

    private static void AddWire(IServiceCollection services)
    {
        services.ConfigureHttpJsonOptions(o =>
        {
            var wire = WireJson.Default.Options;
            o.SerializerOptions.PropertyNamingPolicy = wire.PropertyNamingPolicy;
            o.SerializerOptions.DefaultIgnoreCondition = wire.DefaultIgnoreCondition;
            o.SerializerOptions.NumberHandling = wire.NumberHandling;
            foreach (var converter in wire.Converters)
            {
                o.SerializerOptions.Converters.Add(converter);
            }
            o.SerializerOptions.TypeInfoResolverChain.Insert(0, WireJson.Default);
        });
        services.AddSignalR(o =>
            {
                o.MaximumReceiveMessageSize = LinkProtocol.MaxMessageBytes;
                o.KeepAliveInterval = LinkProtocol.PingInterval;
                o.ClientTimeoutInterval = LinkProtocol.Silence;
                o.HandshakeTimeout = LinkProtocol.HelloWithin;
            })
            .AddHubOptions<LiveHub>(o => o.MaximumParallelInvocationsPerClient = 16)
            .AddJsonProtocol(o => o.PayloadSerializerOptions = new(WireJson.Default.Options));
        services.RemoveAll<IHubProtocol>();
        services.AddSingleton<IHubProtocol, StrictJsonProtocol>();
    }

    private static void Route(WebApplication app)
    {
        app.UseExceptionHandler(_ => { });
        app.UseStatusCodePages(context => ProblemWriter.WriteBareAsync(context.HttpContext));
        app.Use(next => context => SecurityHeaders.ApplyAsync(context, next));
        if (app.Services.GetRequiredService<ServiceOptions>().IsAllTls)
        {
            app.UseHsts();
        }
        app.UseWebSockets(new WebSocketOptions { KeepAliveInterval = LinkProtocol.PingInterval, KeepAliveTimeout = LinkProtocol.Silence });
        app.UseRouting();
        app.UseAuthentication();
        app.UseRateLimiter();
        app.UseAuthorization();
        app.Use(next => context => EndpointNeeds.AskAsync(context, next));

        var api = app.MapGroup("/api/v1");
        api.MapAccess();
        api.MapPolicies();
        api.MapVault();
        api.MapSessions();
        api.MapInvitations();
        api.MapShells();
        api.MapDesktops();
        api.MapRecordings();
        api.MapParcels();
        api.MapTwins();
        api.MapShelves();
        api.MapEnrolment();
        api.MapEstate();
        api.MapHealth();
        api.MapAlerts();
        api.MapChecks();
        api.MapNotices();
        api.MapReactions();
        api.MapMaintenance();
        api.MapJobs();
        api.MapScripts();
        api.MapAudit();
        app.MapInstallerFiles();
        api.MapUpdates();
        api.MapScans();
        SingleSignOn.Map(app, app.Services.GetRequiredService<ServiceOptions>().SingleSignOn);
        app.MapReleaseFiles();
        app.MapContent();
        app.MapChannels();
        app.MapServiceHealth();
        app.MapOpenApi().AllowAnonymous();
        app.MapHub<LinkHub>(LinkProtocol.Path, o =>
        {
            o.Transports = Microsoft.AspNetCore.Http.Connections.HttpTransportType.WebSockets;
            o.TransportMaxBufferSize = 4 * LinkProtocol.MaxMessageBytes;
            o.ApplicationMaxBufferSize = 2 * LinkProtocol.MaxMessageBytes;
        });
        app.MapHub<LiveHub>(LiveHub.Path, o =>
        {
            o.Transports = Microsoft.AspNetCore.Http.Connections.HttpTransportType.WebSockets;
            o.CloseOnAuthenticationExpiration = true;
        });
        // A plain delegate: the generator of endpoints takes any other for one that leaves files out.
        RequestDelegate pages = http => IsPage(http.Request)
            ? app.Services.GetRequiredService<ConsoleFiles>().ServeAsync(http)
            : ProblemWriter.WriteAsync(http, ProblemException.NoSuchAddress(http.Request).Problem, http.RequestAborted);
        app.MapFallback("{**path}", pages).AllowAnonymous();
    }

    private static bool IsPage(HttpRequest request) =>
        (HttpMethods.IsGet(request.Method) || HttpMethods.IsHead(request.Method)) && !request.Path.StartsWithSegments("/api");

    private static Task Refuse(HttpContext http) =>
        ProblemWriter.WriteAsync(http, new ProblemException(401, ProblemTypes.NotSignedIn, "You are not signed in, or your sign-in has ended. Sign in and try again.").Problem, http.RequestAborted);
}
