using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Enrolment;

public static class EnrolmentEndpoints
{
    public static void MapEnrolment(this IEndpointRouteBuilder api)
    {
        var enrolments = api.MapGroup("/enrolments").WithTags("Enrolment");
        enrolments.MapPost("", (EnrolmentService service, FailureLimiter limiter, HttpContext http, EnrolmentRequest request, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.EnrolAsync(request, http.Address(), cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("enrol").WithSummary("A new host presents its token and its key.");
        enrolments.MapGet("", async (EnrolmentReader reader, Asker by, string? state, Guid? installer, CancellationToken cancel) =>
        {
            var all = await reader.ListAsync(QueryWord.Read(state, WireJson.Default.EnrolmentState), installer, by.Reach, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<EnrolmentInfo>(all, null, all.Count));
        }).Needs(NeedAt.Somewhere, Permission.Approve).WithName("listEnrolments").WithSummary("Who joined, tried to, or waits, newest first.");
        enrolments.MapPost("/decide", async (EnrolmentService service, Asker by, EnrolmentDecisionRequest wish, CancellationToken cancel) =>
            TypedResults.Ok(await service.DecideAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Approve).WithName("decideEnrolments").WithSummary("Approves or rejects enrolments that wait, or lets them take over the entry of the same machine.");

        var installers = api.MapGroup("/installers").WithTags("Enrolment");
        installers.MapGet("", async (InstallerService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<InstallerInfo>(all, null, all.Count));
        }).Needs(NeedAt.Somewhere, Permission.Approve).WithName("listInstallers").WithSummary("Installers, newest first.");
        installers.MapPost("", async (InstallerService service, HttpContext http, Asker by, NewInstaller wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, http.OwnAddress(), cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/installers/{made.Info.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Approve).WithName("createInstaller").WithSummary("Makes an installer for a group.");
        installers.MapGet("/{id:guid}", async (InstallerService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.GetAsync(id, by, http.OwnAddress(), cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Approve).WithName("getInstaller").WithSummary("An installer: its link, its lines, and who used it.");
        installers.MapPost("/{id:guid}/revoke", async (InstallerService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.RevokeAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Approve).WithName("revokeInstaller").WithSummary("Ends an installer; hosts that came in with it stay.");
        installers.MapGet("/{id:guid}/package", async (InstallerService service, AgentPrograms programs, HttpContext http, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.File(await service.PackAsync(id, by, http.OwnAddress(), cancel).ConfigureAwait(false), "application/vnd.debian.binary-package", DebPackage.FileName(programs.Needed().Version)))
            .Needs(NeedAt.Somewhere, Permission.Approve).WithName("getInstallerPackage").WithSummary("The installer as a Debian package.").Produces<byte[]>(200, "application/vnd.debian.binary-package");

        api.MapGet("/offers/{secret}", (InstallerService service, FailureLimiter limiter, HttpContext http, string secret, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.OfferAsync(secret, http.OwnAddress(), cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithTags("Enrolment").WithName("getOffer").WithSummary("What the page of an installer's link tells.");
    }

    /// <summary>What a link leads to, beside its page: the script, the agent and the package.</summary>
    public static void MapInstallerFiles(this IEndpointRouteBuilder app)
    {
        var files = app.MapGroup("/get/{secret}").ExcludeFromDescription();
        files.MapGet("/install", (InstallerService service, FailureLimiter limiter, HttpContext http, string secret, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Text(await service.ScriptAsync(secret, http.OwnAddress(), cancel).ConfigureAwait(false), "text/x-shellscript")))
            .AllowAnonymous();
        files.MapGet("/agent", (InstallerService service, AgentPrograms programs, FailureLimiter limiter, HttpContext http, string secret, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () =>
            {
                await service.FindUsableAsync(secret, cancel).ConfigureAwait(false);
                return new AgentFile(programs.Needed());
            })).AllowAnonymous();
        files.MapGet("/package", (InstallerService service, AgentPrograms programs, FailureLimiter limiter, HttpContext http, string secret, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.File(
                await service.PackBySecretAsync(secret, http.OwnAddress(), cancel).ConfigureAwait(false), "application/vnd.debian.binary-package", DebPackage.FileName(programs.Needed().Version))))
            .AllowAnonymous();
    }
}
