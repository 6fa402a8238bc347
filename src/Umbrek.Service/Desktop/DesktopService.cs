using System.Security.Cryptography;
using System.Text;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Sessions;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Desktop;

/// <summary>Lets technicians to the desktops of hosts: to look on, or to act there; each is in the audit log before it begins.</summary>
public sealed class DesktopService(SessionService sessions, ActingChannels channels, RecordingService recordings, VaultService vault, IAgentLinks links, Gate gate)
{
    private static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(10);

    /// <summary>Opens a channel of one's own session for a desktop.</summary>
    public async Task<ChannelTicket> OpenAsync(Guid sessionId, NewChannel wish, Asker by, CancellationToken cancel)
    {
        var desktop = wish.Desktop ?? new DesktopWish();
        if (desktop.Check() is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        var session = await sessions.GetAsync(sessionId, by, cancel).ConfigureAwait(false);
        var host = gate.Host(by, session.HostId, PermissionFor(desktop));
        var recording = await recordings.BeginAsync(host, sessionId, desktop, by, cancel).ConfigureAwait(false);
        try
        {
            var ticket = await channels.OpenAsync(
                sessionId, host, wish with { Desktop = desktop }, by, desktop.Act(), desktop, LinkJson.Default.DesktopWish, wish.Kind,
                desktop.Control ? "desktop.control" : "desktop.watch", [("screen", desktop.Screen), ("recording", recording is { } r ? $"{r.Told.Id}" : null)], recording?.Tap, cancel).ConfigureAwait(false);
            return ticket with { Recording = recording?.Told };
        }
        catch
        {
            recording?.Tap.Over();
            throw;
        }
    }

    /// <summary>Screens of a linked host, those that can't be shown too, with why.</summary>
    public async Task<IReadOnlyList<ScreenInfo>> ListAsync(Guid hostId, Asker by, CancellationToken cancel)
    {
        var host = gate.Host(by, hostId, Permission.Watch);
        try
        {
            var answer = await links.AskAsync(host.Id, new HostRequest(HostRequest.Screens), AnswerWithin, cancel).ConfigureAwait(false);
            return answer.Error is null ? answer.Screens ?? [] : throw new ProblemException(409, ProblemTypes.Conflict, answer.Error);
        }
        catch (HostUnreachableException e)
        {
            throw new ProblemException(409, ProblemTypes.HostAway, $"{host.Label}: {e.Message}");
        }
    }

    /// <summary>Types a secret of the vault at the desktop that the caller controls; he does not see it.</summary>
    public async Task TypeAsync(Guid hostId, NewTyping wish, Asker by, CancellationToken cancel)
    {
        var host = gate.Host(by, hostId, Permission.Control);
        gate.Host(by, hostId, Permission.UseSecrets);
        var mine = sessions.OpenOf(hostId, by);
        if (mine.Count == 0)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"You control no desktop of {host.Label}; open it to control it first.");
        }
        var (info, plain) = await vault.UseLogonAsync(wish.SecretId, host, "typed at the desktop", by, cancel).ConfigureAwait(false);
        try
        {
            var name = info.Name.Length > 0 ? info.Name : info.Place;
            var answer = await links.AskAsync(host.Id, new HostRequest(HostRequest.TypeSecret, Typing: new SecretTyping(mine, name, Encoding.UTF8.GetString(plain), wish.Enter)), AnswerWithin, cancel).ConfigureAwait(false);
            if (answer.Error is { } error)
            {
                throw new ProblemException(409, ProblemTypes.Conflict, error);
            }
        }
        catch (HostUnreachableException e)
        {
            throw new ProblemException(409, ProblemTypes.HostAway, $"{host.Label}: {e.Message}");
        }
        finally
        {
            CryptographicOperations.ZeroMemory(plain);
        }
    }

    public static Permission PermissionFor(DesktopWish wish) => wish.Control ? Permission.Control : Permission.Watch;
}
