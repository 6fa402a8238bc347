using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

public static class CheckEndpoints
{
    public static void MapChecks(this IEndpointRouteBuilder api)
    {
        var checks = api.MapGroup("/checks").WithTags("Health");
        checks.MapGet("", async (CheckService service, Asker by, CancellationToken cancel) =>
        {
            var list = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<CheckInfo>(list, null, list.Count));
        }).Own().WithName("listChecks").WithSummary("Every check, with what places say of it.");
        checks.MapPost("", async (CheckService service, HttpContext http, Asker by, NewCheck wish, CancellationToken cancel) => Answer(http, await service.CreateAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("createCheck").WithSummary("A check of one's own, for everything or for a group.");
        checks.MapPost("/probe-trial", async (CheckService service, Asker by, ProbeTrialWish trial, CancellationToken cancel) =>
        {
            var lines = await service.TryProbeAsync(trial, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ProbeTrialLine>(lines, null, lines.Count));
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("tryProbe").WithSummary("Has hosts look once, and does nothing about what they find.");
        checks.MapGet("/{key}/hosts", async (CheckService service, Asker by, string key, CancellationToken cancel) =>
        {
            var hosts = await service.OnHostsAsync(key, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ProbeOnHost>(hosts, null, hosts.Count));
        }).Needs(NeedAt.Somewhere, Permission.See).WithName("listProbedHosts").WithSummary("Where a check with a probe stands on its hosts.");
        checks.MapPut("/{id:guid}", async (CheckService service, HttpContext http, Asker by, Guid id, NewCheck wish, CancellationToken cancel) =>
            Answer(http, await service.ChangeAsync(id, wish, http.IfMatchVersion("check"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("changeCheck").WithSummary("Changes a check of one's own.");
        checks.MapDelete("/{id:guid}", async (CheckService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("removeCheck").WithSummary("Removes a check of one's own; its alerts clear.");
        checks.MapPost("/settings", async (CheckService service, HttpContext http, Asker by, CheckWish wish, CancellationToken cancel) => Answer(http, await service.SayAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("setCheck").WithSummary("Switches a check off or on for a place, or changes its rule or severity there; with nothing said, what is above counts again.");
        checks.MapPost("/trial", async (CheckService service, Asker by, CheckTrial trial, CancellationToken cancel) => TypedResults.Ok(await service.TryAsync(trial, by, cancel).ConfigureAwait(false)))
            .Own().WithName("tryCheck").WithSummary("What a rule would have raised over the last days.");
        api.MapGet("/hosts/{id:guid}/probes", (CheckService service, Asker by, Guid id) =>
        {
            var list = service.OnHost(id, by);
            return TypedResults.Ok(new Page<ProbeOnHost>(list, null, list.Count));
        }).WithTags("Health").Needs(NeedAt.Host, Permission.See).WithName("listHostProbes").WithSummary("Where checks with probes stand on a host.");
    }

    private static Microsoft.AspNetCore.Http.HttpResults.Ok<CheckInfo> Answer(HttpContext http, CheckInfo check)
    {
        http.SetVersion(check.Version);
        return TypedResults.Ok(check);
    }
}
