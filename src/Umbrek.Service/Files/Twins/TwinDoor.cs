using System.Security.Claims;
using Umbrek.Core.Files.Twins;
using Umbrek.Service.Access;
using Umbrek.Service.Files.Shelves;
using Umbrek.Service.Hosting;
using Umbrek.Service.Relay;
using Umbrek.Service.Sessions;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Files.Twins;

/// <summary>Who wants a turn. What he may is asked anew whenever a channel is opened.</summary>
public sealed record TurnAsker(ClaimsPrincipal User, string? Address);

/// <summary>What a twin's folders lie on.</summary>
public sealed record TwinGrounds(SessionService Sessions, FileService Files, ChannelBroker Broker, ShelfService Shelves, ShelfFiles ShelfFiles, AccessIndex Access);

/// <summary>Opens channels to both sides of a twin as its technician may: to hosts in a session with each, which are listed and ended like any other.</summary>
public sealed class TwinDoor(TwinGrounds on, TurnAsker asker, NewTwin twin, bool usesVault, TimeProvider time) : ITwinDoor
{
    private readonly Dictionary<TwinSide, SessionInfo> open = [];

    public async Task<FileTalk> OpenAsync(TwinSide side, bool changes, CancellationToken cancel)
    {
        var place = PlaceOf(side);
        try
        {
            var by = Asker.Of(asker.User, asker.Address, on.Access);
            if (place.HostId is not { } hostId)
            {
                return await on.Shelves.OpenAsync(place, side, changes, by, CancellationToken.None, cancel).ConfigureAwait(false);
            }
            if (!open.TryGetValue(side, out var session))
            {
                session = open[side] = await on.Sessions.OpenAsync(hostId, new NewSession($"twin {twin.Name}"), by, asker.User, cancel).ConfigureAwait(false);
            }
            var ticket = await on.Files.OpenAsync(session.Id, new NewChannel(ChannelKinds.Files, UsesVault: usesVault, Files: new FilesWish(changes, Packs: true)), by, cancel).ConfigureAwait(false);
            return new FileTalk(session.HostLabel, side, place.Path, await on.Broker.ComeAsync(ticket.Ticket, cancel).ConfigureAwait(false), time);
        }
        catch (ProblemException e) when (e.Problem.Word is ProblemTypes.HostAway or ProblemTypes.Conflict)
        {
            open.Remove(side);
            throw new TalkBrokenException(e.Message);
        }
        catch (ProblemException e)
        {
            throw new TurnFailedException(e.Message);
        }
        catch (TimeoutException)
        {
            throw new TalkBrokenException("The host did not come to the channel in time.");
        }
        catch (Exception e) when (e is InvalidOperationException || (e is OperationCanceledException && !cancel.IsCancellationRequested))
        {
            open.Remove(side);
            throw new TalkBrokenException("The session has ended.");
        }
    }

    public void CheckRoom(TwinSide side, long bytes)
    {
        try
        {
            if (PlaceOf(side).ShelfId is not null)
            {
                on.ShelfFiles.CheckRoom(bytes);
            }
        }
        catch (IOException e)
        {
            throw new TurnFailedException(e.Message);
        }
    }

    private TwinPlace PlaceOf(TwinSide side) => side == TwinSide.First ? twin.First : twin.Second;

    public async ValueTask DisposeAsync()
    {
        foreach (var session in open.Values)
        {
            try
            {
                await on.Sessions.EndAsync(session.Id, Asker.Of(asker.User, asker.Address, on.Access), CancellationToken.None).ConfigureAwait(false);
            }
            catch (ProblemException)
            {
                // What let him in is no more, and the session has ended with it.
            }
        }
    }
}
