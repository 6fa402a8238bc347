using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Agent.Access;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Core.Access;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Sessions;

/// <summary>Lets technicians to what channels are for: as the host policy allows it, with the access key where it asks for that, and with the people here.</summary>
public sealed class ChannelGate(HostRules rules, SessionTable sessions, ConsentDesk desk, TimeProvider time, AgentLog log)
{
    /// <summary>The host policy as it is in force.</summary>
    public HostPolicy Policy => rules.Side().InForce;

    /// <summary>Told what people here answered when they were asked.</summary>
    public Action<ConsentReport>? Answered { get; set; }

    /// <summary>Decides about an order when it comes: what it was sealed with may be over a moment later.</summary>
    /// <param name="what">What it is for, in a word: "shells".</param>
    /// <param name="wish">What counts from now on: where the host asks for its key, what was sealed and not what came beside it.</param>
    /// <returns>Null, or why it may not be.</returns>
    public string? Admit<T>(HostAct act, string what, SealedOrder? seal, ref T wish, JsonTypeInfo<T> type) where T : class
    {
        var side = rules.Side();
        if (!side.InForce.Allows(act))
        {
            return $"This host does not allow {what}: {side.Problem ?? "its host policy leaves them out."} Nothing was run.";
        }
        if (side.InForce.AsksKey(act))
        {
            if (sessions.Take(seal, act) is { } unproven)
            {
                return unproven;
            }
            try
            {
                wish = JsonSerializer.Deserialize(seal!.Text, type) ?? throw new JsonException();
            }
            catch (JsonException)
            {
                return "What was sealed is not for this. Nothing was run.";
            }
        }
        return null;
    }

    /// <summary>Has the people here agree, or tells them, as the policy says.</summary>
    /// <param name="what">What begins, for people: "a shell".</param>
    /// <param name="notice">Tells the technician that he waits for somebody.</param>
    /// <returns>Null, or why it may not be.</returns>
    public async Task<string?> MayBeginAsync(ChannelOrder order, HostAct act, string what, Action<string> notice, CancellationToken cancel)
    {
        var policy = rules.Side().InForce;
        if (!ConsentDesk.Concerns(policy))
        {
            return null;
        }
        var problem = await desk.AskAsync(
            policy, new ConsentQuestion(order.Technician, act, what, default, order.From, order.Reason),
            until => notice($"A person at the host is asked first; without an answer it is refused at {until:HH:mm} UTC."),
            answer =>
            {
                log.Info($"{answer.Person} has {(answer.Agreed ? "agreed to" : "refused")} {what} for {order.Technician}");
                Answered?.Invoke(new ConsentReport(order.ChannelId, order.Technician, answer.Person, answer.Agreed));
            },
            cancel).ConfigureAwait(false);
        if (problem is not null)
        {
            return $"{problem} Nothing was run.";
        }
        await desk.TellBeginAsync(policy, order.Technician, what, cancel).ConfigureAwait(false);
        return null;
    }

    /// <summary>Tells the people here that it is over, where they were told that it began.</summary>
    public void TellEnd(string technician, string what)
    {
        if (Policy.Notice != NoticeRule.None)
        {
            desk.TellEnd(technician, what);
        }
    }

    /// <summary>Shows the people here what goes on, until it is disposed; where the policy says so.</summary>
    /// <param name="end">Called when one of them ends it.</param>
    public IDisposable Show(ChannelOrder order, string what, Action<string>? end) => desk.Show(Policy, new PresenceSign(order.Technician, what, time.GetUtcNow()), end is null ? null : person =>
    {
        log.Info($"{person} has ended {what} of {order.Technician}");
        Answered?.Invoke(new ConsentReport(order.ChannelId, order.Technician, person, false, Deed: DeskDeed.Ended));
        end(person);
    });

    /// <summary>What the channel's technician may do with the desks here; all of it is written down.</summary>
    public IDeskPowers Powers(ChannelOrder order, IDesktops desktops) => new DeskPowers(desk, desktops, log, order, report => Answered?.Invoke(report));

    /// <summary>While a technician has the keyboard and the mouse, nothing that a program presses is an answer.</summary>
    public IDisposable HandsOnly() => desk.HandsOnly();
}
