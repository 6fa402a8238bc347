using Microsoft.AspNetCore.Http.HttpResults;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

public static class InvitationEndpoints
{
    public static void MapInvitations(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("").WithTags("Sessions");
        all.MapGet("/hosts/{id:guid}/colleagues", (InvitationService service, Asker by, Guid id) => Listed(service.Colleagues(id, by)))
            .Needs(NeedAt.Host, Permission.Watch).WithName("listColleagues").WithSummary("Others who may look at the host's desktop, and who of them is here.");
        all.MapPost("/hosts/{id:guid}/invitations", async (InvitationService service, Asker by, Guid id, NewInvitation wish, CancellationToken cancel) =>
        {
            var sent = await service.SendAsync(id, wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/invitations/{sent.Id}", sent);
        }).Needs(NeedAt.Host, Permission.Watch).WithName("sendInvitation").WithSummary("Asks a colleague to the desktop of a host at which the caller is. It opens nothing, and lapses after a quarter of an hour.");
        all.MapGet("/invitations", (InvitationService service, Asker by) => Listed(service.List(by)))
            .Own().WithName("listInvitations").WithSummary("Invitations to the caller and from him that stand, the latest first.");
        all.MapPost("/invitations/{id:guid}/answer", async (InvitationService service, Asker by, Guid id, InvitationAnswer answer, CancellationToken cancel) =>
            TypedResults.Ok(await service.AnswerAsync(id, answer, by, cancel).ConfigureAwait(false)))
            .Own().WithName("answerInvitation").WithSummary("Says whether one comes to a host to which one was asked.");
        all.MapDelete("/invitations/{id:guid}", async Task<NoContent> (InvitationService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.WithdrawAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Own().WithName("withdrawInvitation").WithSummary("Takes back an invitation of one's own.");
    }

    private static Ok<Page<T>> Listed<T>(IReadOnlyList<T> items) => TypedResults.Ok(new Page<T>(items, null, items.Count));
}
