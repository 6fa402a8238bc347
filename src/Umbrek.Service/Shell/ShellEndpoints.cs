using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Shell;

public static class ShellEndpoints
{
    public static void MapShells(this IEndpointRouteBuilder api)
    {
        var shells = api.MapGroup("/hosts/{id:guid}/shells").WithTags("Shell");
        shells.MapGet("", async (ShellService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            var found = await service.ListAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ShellInfo>(found, null, found.Count));
        }).Needs(NeedAt.Host, Permission.Shell).WithName("listShells").WithSummary("Shells that go on at a linked host: one's own, and everybody's for who administers the place.");
        shells.MapPost("/{shellId:guid}/end", async (ShellService service, Asker by, Guid id, Guid shellId, CancellationToken cancel) =>
        {
            await service.EndAsync(id, shellId, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Host, Permission.Shell).WithName("endShell").WithSummary("Ends a shell of one's own, or at a place that one administers.");
    }
}
