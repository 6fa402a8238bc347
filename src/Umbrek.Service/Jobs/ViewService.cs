using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Sessions;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Jobs;

/// <summary>Lets technicians look at processes, services and logs of hosts. What they do with them are jobs.</summary>
public sealed class ViewService(SessionService sessions, ActingChannels channels, Gate gate)
{
    public async Task<ChannelTicket> OpenAsync(Guid sessionId, NewChannel wish, Asker by, CancellationToken cancel)
    {
        var look = wish.View ?? new ViewWish();
        if (look.Check() is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        var session = await sessions.GetAsync(sessionId, by, cancel).ConfigureAwait(false);
        var host = gate.Host(by, session.HostId, Permission.Run);
        return await channels.OpenAsync(sessionId, host, wish with { View = look }, by, HostAct.Run, look, LinkJson.Default.ViewWish, wish.Kind, wish.Kind == ChannelKinds.Services ? "service.look" : "process.look", [], null, cancel).ConfigureAwait(false);
    }

    public async Task<ChannelTicket> OpenLogAsync(Guid sessionId, NewChannel wish, Asker by, CancellationToken cancel)
    {
        var read = wish.Log ?? new LogWish();
        if (read.Check() is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        var session = await sessions.GetAsync(sessionId, by, cancel).ConfigureAwait(false);
        var host = gate.Host(by, session.HostId, Permission.ReadFiles);
        return await channels.OpenAsync(sessionId, host, wish with { Log = read }, by, HostAct.ReadFiles, read, LinkJson.Default.LogWish, wish.Kind, "log.read", [("log", read.Name), ("text", read.Text)], null, cancel).ConfigureAwait(false);
    }
}
