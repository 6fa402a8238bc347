using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Desktop;
using Umbrek.Service.Files;
using Umbrek.Service.Jobs;
using Umbrek.Service.Relay;
using Umbrek.Service.Shell;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

public static class SessionEndpoints
{
    public static void MapSessions(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("").WithTags("Sessions");
        all.MapPost("/hosts/{id:guid}/sessions", async (SessionService service, HttpContext http, Asker by, Guid id, NewSession wish, CancellationToken cancel) =>
        {
            var opened = await service.OpenAsync(id, wish, by, http.User, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/sessions/{opened.Id}", opened);
        }).Needs(NeedAt.Host, Permission.See).WithName("openSession").WithSummary("Opens a session on a linked host, for whoever may do at least one thing with it.");
        all.MapGet("/sessions", async (SessionService service, Asker by, Guid? host, bool? live, string? text, CancellationToken cancel) =>
        {
            var found = await service.ListAsync(host, live == true, text, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<SessionInfo>(found, null, found.Count));
        }).Own().WithName("listSessions").WithSummary("Sessions at hosts that the caller may see: open ones first, then the latest.");
        all.MapGet("/sessions/{id:guid}", async (SessionService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getSession").WithSummary("One session.");
        all.MapPut("/sessions/{id:guid}/note", async (SessionService service, Asker by, Guid id, SessionNote wish, CancellationToken cancel) => TypedResults.Ok(await service.NoteAsync(id, wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("noteSession").WithSummary("Writes what is to be known about a session of one's own, or at a place that one administers.");
        all.MapGet("/sessions/{id:guid}/acts", async (SessionService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            var found = await service.ActsAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<SessionAct>(found, null, found.Count));
        }).Needs(NeedAt.Somewhere, Permission.See).WithName("listSessionActs").WithSummary("What was done in a session of one's own, or at a place that one administers, in its order.");
        all.MapPost("/sessions/{id:guid}/end", async (SessionService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.EndAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("endSession").WithSummary("Ends a session of one's own, or at a place that one administers, with all its channels.");
        all.MapPost("/sessions/{id:guid}/channels", async (SessionService service, ShellService shells, ViewService views, FileService files, DesktopService desktops, Asker by, Guid id, NewChannel wish, CancellationToken cancel) =>
            TypedResults.Ok(await (wish.Kind switch
            {
                ChannelKinds.Shell => shells.OpenAsync(id, wish, by, cancel),
                ChannelKinds.Processes or ChannelKinds.Services => views.OpenAsync(id, wish, by, cancel),
                ChannelKinds.Logs => views.OpenLogAsync(id, wish, by, cancel),
                ChannelKinds.Files => files.OpenAsync(id, wish, by, cancel),
                ChannelKinds.Desktop => desktops.OpenAsync(id, wish, by, cancel),
                _ => service.OpenChannelAsync(id, wish, by, null, cancel),
            }).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("openChannel").WithSummary("Opens a channel of one's own session; the ticket leads a WebSocket to it.");
    }

    /// <summary>Where both ends of channels come; their tickets let them in, and nothing else does.</summary>
    public static void MapChannels(this IEndpointRouteBuilder app)
    {
        RequestDelegate channel = http => http.RequestServices.GetRequiredService<ChannelBroker>().ServeAsync(http);
        // A browser that speaks HTTP/2 opens a WebSocket with CONNECT (RFC 8441).
        app.MapMethods(ChannelJoin.Path, [HttpMethods.Get, HttpMethods.Connect], channel).AllowAnonymous().ExcludeFromDescription();
    }
}
