using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Desktop;

public static class DesktopEndpoints
{
    public static void MapDesktops(this IEndpointRouteBuilder api)
    {
        var screens = api.MapGroup("/hosts/{id:guid}/screens").WithTags("Desktop");
        screens.MapGet("", async (DesktopService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            var found = await service.ListAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ScreenInfo>(found, null, found.Count));
        }).Needs(NeedAt.Host, Permission.Watch).WithName("listScreens").WithSummary("Screens of a linked host: whose they are, and why one can't be shown.");
    }
}
