using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Access;
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
        var typing = api.MapGroup("/hosts/{id:guid}").WithTags("Desktop");
        typing.MapGet("/logons", async (VaultService vault, Gate gate, Asker by, Guid id, CancellationToken cancel) =>
        {
            var found = await vault.LogonsAsync(gate.Host(by, id, Permission.UseSecrets), by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<SecretInfo>(found, null, found.Count));
        }).Needs(NeedAt.Host, Permission.UseSecrets).WithName("listLogons").WithSummary("Logons that the vault keeps of a host and of the groups that it is in, without their texts, where the caller may use them.");
        typing.MapPost("/typing", async (DesktopService service, Asker by, Guid id, NewTyping wish, CancellationToken cancel) =>
        {
            await service.TypeAsync(id, wish, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Host, Permission.Control).WithName("typeSecret").WithSummary("Types a logon of the vault at the desktop that the caller controls, without his seeing it; takes use-secrets as well.");
    }
}
