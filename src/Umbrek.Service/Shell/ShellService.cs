using Umbrek.Core.Access;
using Umbrek.Core.Shell;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Sessions;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Shell;

/// <summary>Lets technicians to the shells of hosts: what it opens is in the audit log, what goes on at a host the host itself knows.</summary>
public sealed class ShellService(SessionService sessions, ActingChannels channels, RecordingService recordings, IAgentLinks links, Gate gate, AuditLog audit)
{
    private static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(10);

    /// <summary>Opens a channel of one's own session for a new shell, or for one that goes on.</summary>
    public async Task<ChannelTicket> OpenAsync(Guid sessionId, NewChannel wish, Asker by, CancellationToken cancel)
    {
        if (wish.Shell is not { } shell)
        {
            throw ProblemException.Invalid("The channel is for a shell, and nothing is said of it; say whether it has a terminal and what runs in it.");
        }
        if (shell.Check() is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        var session = await sessions.GetAsync(sessionId, by, cancel).ConfigureAwait(false);
        var host = gate.Host(by, session.HostId, Permission.Shell);
        if (shell.User is not null)
        {
            gate.Host(by, host.Id, Permission.ChooseUser);
        }
        var recording = await recordings.BeginAsync(host, sessionId, shell, by, cancel).ConfigureAwait(false);
        try
        {
            var ticket = await channels.OpenAsync(
                sessionId, host, wish, by, HostAct.Shell, shell, LinkJson.Default.ShellWish, "shell", shell.ShellId is null ? "shell.open" : "shell.resume",
                [("shell", shell.ShellId is { } id ? $"{id}" : null), ("command", shell.Command?.Display()), ("user", shell.User), ("recording", recording is { } r ? $"{r.Told.Id}" : null)], recording?.Tap, cancel).ConfigureAwait(false);
            return ticket with { Recording = recording?.Told };
        }
        catch
        {
            recording?.Tap.Over();
            throw;
        }
    }

    /// <summary>Shells that go on at a host: one's own, and everybody's for who administers the place.</summary>
    public async Task<List<ShellInfo>> ListAsync(Guid hostId, Asker by, CancellationToken cancel)
    {
        var host = gate.Host(by, hostId, Permission.Shell);
        var answer = await AskAsync(host, new HostRequest(HostRequest.Shells), cancel).ConfigureAwait(false);
        var all = by.Reach.May(Permission.Administer, host.GroupPath);
        return [.. (answer.Shells ?? []).Where(s => all || s.TechnicianId == by.Id)];
    }

    /// <summary>Ends a shell of one's own, or at a place that one administers.</summary>
    public async Task EndAsync(Guid hostId, Guid shellId, Asker by, CancellationToken cancel)
    {
        var shell = (await ListAsync(hostId, by, cancel).ConfigureAwait(false)).Find(s => s.Id == shellId) ?? throw ProblemException.NotFound("shell");
        var host = gate.Host(by, hostId, Permission.Shell);
        await AskAsync(host, new HostRequest(HostRequest.EndShell, ShellId: shellId), cancel).ConfigureAwait(false);
        await audit.AddAsync(by, "shell.end", Name(host), cancel, ("shell", $"{shellId}"), ("of", shell.Technician)).ConfigureAwait(false);
    }

    private async Task<HostAnswer> AskAsync(HostSummary host, HostRequest request, CancellationToken cancel)
    {
        try
        {
            var answer = await links.AskAsync(host.Id, request, AnswerWithin, cancel).ConfigureAwait(false);
            return answer.Error is null ? answer : throw new ProblemException(409, ProblemTypes.Conflict, answer.Error);
        }
        catch (HostUnreachableException e)
        {
            throw new ProblemException(409, ProblemTypes.HostAway, $"{host.Label}: {e.Message}");
        }
    }

    private static string Name(HostSummary host) => $"{host.Label} in {host.GroupPath}";
}
