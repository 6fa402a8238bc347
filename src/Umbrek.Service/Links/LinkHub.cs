using System.Data.Common;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Authorization;
using Microsoft.AspNetCore.SignalR;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Links;
using Umbrek.Service.Access;
using Umbrek.Service.Enrolment;
using Umbrek.Service.Estate;
using Umbrek.Service.Files;
using Umbrek.Service.Health;
using Umbrek.Service.Sessions;
using Umbrek.Service.Hosting;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Wire.Files;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Links;

/// <summary>The service's end of the link. It listens to nothing but a hello until the host has proven its key.</summary>
[AllowAnonymous]
public sealed partial class LinkHub(LinkRegistry registry, IAgentLinks links, Intake intake, HostClocks clocks, EstateIndex estate, EnrolmentService enrolments, SplitTokens splits, RolloutService rollouts, ScanService scans, Dispatcher dispatcher, PeopleAnswers answers, FileService files, HostSides sides, SessionService sessions, KeyRotationService rotations, PolicyCourier courier, ProbeBook probes, ProbeTrials trials, ServiceKey key, ServiceOptions options, IHostApplicationLifetime lifetime, TimeProvider time, ILogger<LinkHub> log) : Hub
{
    private const string NonceItem = "nonce";
    private const string LinkItem = "link";
    private const string GoodbyeItem = "goodbye";
    private const string TimerItem = "timer";
    private const int MaxReason = 2000;
    private static readonly TimeSpan AnswerOfLinkedWithin = TimeSpan.FromSeconds(5);

    public override async Task OnConnectedAsync()
    {
        var nonce = RandomNumberGenerator.GetBytes(LinkProof.NonceBytes);
        Context.Items[NonceItem] = nonce;
        var caller = Context;
        Context.Items[TimerItem] = time.CreateTimer(
            _ =>
            {
                if (!caller.Items.ContainsKey(LinkItem))
                {
                    caller.Abort();
                }
            },
            null, LinkProtocol.HelloWithin, Timeout.InfiniteTimeSpan);
        await Clients.Caller.SendAsync(ToAgent.Challenge, new LinkChallenge(LinkProtocol.Version, LinkProtocol.OldestVersion, nonce, time.GetUtcNow())).ConfigureAwait(false);
    }

    public async Task<LinkWelcome> Hello(LinkHello hello)
    {
        if (Context.Items.ContainsKey(LinkItem) || !Context.Items.Remove(NonceItem, out var nonce))
        {
            Context.Abort();
            return Refuse(LinkRefusal.WrongProof, "A hello is said once.");
        }
        if (hello.Version < LinkProtocol.OldestVersion)
        {
            return Refuse(LinkRefusal.VersionTooOld, $"This service speaks link versions {LinkProtocol.OldestVersion} to {LinkProtocol.Version}; the agent speaks {hello.Version}. Update the agent.");
        }
        if (hello.Version > LinkProtocol.Version + 2)
        {
            return Refuse(LinkRefusal.VersionTooNew, $"This service speaks link version {LinkProtocol.Version}; the agent speaks {hello.Version}. Update the service.");
        }
        var hostId = hello.HostId;
        var publicKey = estate.FindKey(hostId);
        var enrolment = publicKey is null ? await enrolments.FindAsync(hostId, Context.ConnectionAborted).ConfigureAwait(false) : null;
        if ((publicKey ?? enrolment?.PublicKey) is not { } known)
        {
            return Refuse(LinkRefusal.UnknownHost, "This service does not know the host (any more). Enrol it again.");
        }
        if (!LinkProof.Verify(known, hello.HostId, key.Sha256, (byte[])nonce!, hello.Proof))
        {
            Log.WrongProof(log, hello.HostId, Address());
            return Refuse(LinkRefusal.WrongProof, "The host's proof of its key is wrong: this identity belongs to another key or another service. Enrol the host again.");
        }
        if (hello.UnfinishedRuns is null || hello.UnfinishedRuns.Count > LinkProtocol.MaxUnfinishedRuns || Core.Text.Names.Clean(hello.SystemName, "system name", out _) is not { } systemName)
        {
            return Refuse(LinkRefusal.WrongProof, "The hello is malformed.");
        }

        switch (enrolment?.State)
        {
            case EnrolmentState.Waiting:
                return Refuse(LinkRefusal.AwaitingApproval, enrolment.Why == WaitingReason.SameMachine
                    ? "The host joined, and waits for a person: it looks like a machine that is known already."
                    : "The host joined, and waits for a person to approve it.");
            case EnrolmentState.Rejected:
                return Refuse(LinkRefusal.EnrolmentRejected, "The host was not let in. Ask whoever gave you the installer; to try again, uninstall and install anew.");
            case EnrolmentState.TookOver:
                // From here on it is the entry that it took over, and is told so in the welcome.
                hostId = enrolment.HostId!.Value;
                hello = hello with { HostId = hostId };
                break;
        }

        if (estate.Find(hostId) is { RetiredAt: not null } retired)
        {
            return Refuse(LinkRefusal.HostRetired, $"{retired.Label} was retired: it is no longer under care. Restore it in the console, or uninstall the agent.");
        }
        hello = hello with { AgentVersion = Tame(hello.AgentVersion, 50) ?? "" };
        var machine = new MachineMark(null, hello.HardwareId, hello.BootId).Normalise();
        if (await IsCopyAsync(hostId, machine).ConfigureAwait(false))
        {
            Log.Copied(log, hostId, Address());
            return Refuse(LinkRefusal.ClonedIdentity, "Another machine is linked with this identity; this one, a copy of its disk, takes one of its own.") with { SplitToken = splits.Give(hostId) };
        }
        var linkedAt = time.GetUtcNow();
        var link = new LinkEntry(hello.HostId, Context.ConnectionId, Context, machine);
        Context.Items[LinkItem] = link;
        registry.Register(link);
        // Whatever the host scanned over an earlier link ended with that.
        await scans.HostLeftAsync(hello.HostId).ConfigureAwait(false);
        var presence = estate.Linked(hello.HostId, systemName, hello.AgentVersion, Address(), time.GetUtcNow());
        await intake.PresenceAsync(new PresenceChange(hello.HostId, presence, time.GetUtcNow(), hello.AgentVersion, systemName, Address())).ConfigureAwait(false);
        await dispatcher.ReturnedAsync(hello.HostId, hello.UnfinishedRuns, Context.ConnectionAborted).ConfigureAwait(false);
        if (hello.EndedUpdate is { } ended)
        {
            await rollouts.ReportedAsync(hello.HostId, Tame(ended), Context.ConnectionAborted).ConfigureAwait(false);
        }
        await rollouts.ReturnedAsync(hello.HostId, hello.AgentVersion, linkedAt, Context.ConnectionAborted).ConfigureAwait(false);
        if (hello.Side is { } side)
        {
            await OwnSide(side).ConfigureAwait(false);
        }
        rotations.Returned(hello.HostId);
        var summary = estate.Find(hello.HostId)!;
        return new LinkWelcome(LinkRefusal.None, null, summary.Label, summary.GroupPath, options.SampleIntervalSeconds, enrolment is null ? null : hostId, Policy: courier.Welcome(link, summary.GroupPath));
    }

    /// <summary>
    /// Whether another machine is there with this identity right now. A machine that restarted before its old link was missed looks
    /// alike, so the old link is asked: only a live one answers.
    /// </summary>
    private async Task<bool> IsCopyAsync(Guid hostId, MachineMark newcomer)
    {
        if (registry.Find(hostId) is not { } linked || linked.ConnectionId == Context.ConnectionId || !newcomer.CannotBe(linked.Machine))
        {
            return false;
        }
        try
        {
            await links.AskAsync(hostId, new HostRequest(HostRequest.Ping), AnswerOfLinkedWithin, Context.ConnectionAborted).ConfigureAwait(false);
        }
        catch (HostUnreachableException)
        {
            return false;
        }
        // The other one, cut off by this one's link, comes back and is then the copy.
        return !MachineMark.NewcomerKeeps(estate.FindHardware(hostId), linked.Machine, newcomer);
    }

    public Task Facts(FactReport report) => FromHostAsync(host =>
    {
        if (report.Facts is null)
        {
            return End();
        }
        return intake.FactsAsync(host, [.. report.Facts.Take(200).Where(f => f is { Name: not null } && f.IsUsable() && !FactNames.OfService.Contains(f.Name))]);
    });

    public Task Samples(SampleBatch batch) => FromHostAsync(host => batch.Samples is { Count: > 0 and <= SampleBatch.MaxCount } && batch.Samples.All(s => s is not null) ? TakeSamplesAsync(host, batch) : End());

    /// <summary>By the service's clock; what is acknowledged is said by the host's.</summary>
    private async ValueTask TakeSamplesAsync(Guid hostId, SampleBatch batch)
    {
        var offset = default(ClockOffset);
        if (batch.SentAt is { } sentAt)
        {
            offset = clocks.Measure(hostId, sentAt, time.GetUtcNow(), out var facts);
            if (facts.Count > 0)
            {
                await intake.FactsAsync(hostId, facts).ConfigureAwait(false);
            }
        }
        await intake.SamplesAsync(hostId, offset == default ? batch.Samples : [.. batch.Samples.Select(s => s with { At = offset.Correct(s.At) })], batch.Samples.Max(s => s.At)).ConfigureAwait(false);
    }

    public Task RunEvents(RunEventBatch batch) => FromHostAsync(host =>
        batch.Events is null || batch.Events.Any(e => e is null || e.Sequence < 0 || e.Data?.Length > Core.Jobs.RunEvent.MaxDataBytes) ? End() : intake.EventsAsync(host, [.. batch.Events.Select(Tame)]));

    public Task RunHeld(RunHeld held) => FromHostAsync(host => intake.HeldAsync(host, held with { Reason = Tame(held.Reason, MaxReason) }));

    public Task ScanReport(ScanReport report) => FromHostAsync(host =>
        report.Answers is { Count: > Wire.Links.ScanReport.MaxAnswers } ? End() : new ValueTask(scans.ReportedAsync(host, report, Context.ConnectionAborted)));

    public Task UpdateEnded(UpdateReport report) => FromHostAsync(host =>
        new ValueTask(rollouts.ReportedAsync(host, Tame(report), Context.ConnectionAborted)));

    public Task OwnSide(HostSide side) => FromHostAsync(host =>
    {
        if (side.InForce?.Normalise() is not { } inForce || (side.Limit is { } limit && limit.Normalise() is null))
        {
            return End();
        }
        return TakeSideAsync(host, side with { InForce = inForce, Limit = side.Limit?.Normalise(), Problem = Tame(side.Problem, MaxReason), KeyMark = Tame(side.KeyMark, 8) });
    });

    private async ValueTask TakeSideAsync(Guid hostId, HostSide side)
    {
        if (await sides.TakeAsync(hostId, side, Context.ConnectionAborted).ConfigureAwait(false))
        {
            await sessions.KeyChangedAsync(hostId).ConfigureAwait(false);
        }
    }

    public Task KeyTried(KeyReport report) => FromHostAsync(host => new ValueTask(sessions.KeyTriedAsync(host, report with { Secret = Tame(report.Secret, 20) ?? "", Why = Tame(report.Why, MaxReason) })));

    public Task PersonAnswered(ConsentReport report) => FromHostAsync(host => new ValueTask(answers.TakeAsync(host, report with { Technician = Tame(report.Technician, 100) ?? "", Person = Tame(report.Person, 100) ?? "" }, Context.ConnectionAborted)));

    public Task FilesRead(FileReport report) => FromHostAsync(host => report.Path is not { Text: not null } path || report is { Files: < 0 } or { Bytes: < 0 } or { Problems: < 0 } or { Sha256.Length: not 32 } || !Enum.IsDefined(report.Deed)
        ? End()
        : new ValueTask(files.ToldAsync(host, report with { Path = new FileName(Tame(path.Text, FileName.MostBytes) ?? ""), To = Tame(report.To, FileName.MostBytes) })));

    /// <returns>Whether it is kept; what is not is told again.</returns>
    public async Task<bool> Probes(ProbeReport report)
    {
        var kept = false;
        await FromHostAsync(async host =>
        {
            if (report is not { Results: { Count: <= ProbeReport.MaxResults } results, Events: { Count: <= ProbeReport.MaxEvents } events } || results.Any(r => r is not { Check.Length: <= 100, Figures.Count: <= ProbeReading.MaxFigures }) || events.Any(e => e is null))
            {
                await End().ConfigureAwait(false);
                return;
            }
            try
            {
                await probes.TakeAsync(host, report with { Results = [.. results.Select(Tame)], Events = [.. events.Select(e => e with { Text = Tame(e.Text, 500) ?? "" })] }, Context.ConnectionAborted).ConfigureAwait(false);
                kept = true;
            }
            catch (Exception e) when (e is DbException or DbUpdateException)
            {
                Log.NotKept(log, host, e);
            }
        }).ConfigureAwait(false);
        return kept;
    }

    public Task ProbeTried(ProbeTried tried) => FromHostAsync(host =>
    {
        if (tried.Found is not { Figures.Count: <= ProbeReading.MaxFigures } found)
        {
            return End();
        }
        trials.Told(host, tried with { Found = found with { Says = Tame(found.Says, ProbeReading.MaxSays) ?? "", Figures = Tame(found.Figures) } });
        return ValueTask.CompletedTask;
    });

    private static ProbeResult Tame(ProbeResult result) => result with { Says = Tame(result.Says, ProbeReading.MaxSays) ?? "", Figures = Tame(result.Figures), State = Enum.IsDefined(result.State) ? result.State : ProbeState.Unknown };

    private static List<ProbeFigure> Tame(IReadOnlyList<ProbeFigure> figures) =>
        [.. figures.Where(f => f is { Name.Length: <= ProbeFigure.MaxName } && double.IsFinite(f.Value) && Enum.IsDefined(f.Unit)).Select(f => f with { Name = Tame(f.Name, ProbeFigure.MaxName)! })];

    public Task Goodbye(LinkGoodbye goodbye) => FromHostAsync(_ =>
    {
        Context.Items[GoodbyeItem] = goodbye.Reason;
        return ValueTask.CompletedTask;
    });

    public override async Task OnDisconnectedAsync(Exception? exception)
    {
        if (Context.Items.TryGetValue(TimerItem, out var timer))
        {
            ((IDisposable)timer!).Dispose();
        }
        if (exception is InvalidDataException)
        {
            Log.Malformed(log, Address(), exception.Message);
        }
        if (Context.Items.TryGetValue(LinkItem, out var item) && item is LinkEntry link && registry.Unregister(link))
        {
            var said = Context.Items.TryGetValue(GoodbyeItem, out var reason) ? (AwayReason)reason! : AwayReason.None;
            await scans.HostLeftAsync(link.HostId).ConfigureAwait(false);
            var now = time.GetUtcNow();
            if (!lifetime.ApplicationStopping.IsCancellationRequested)
            {
                var presence = estate.Unlinked(link.HostId, said, now);
                await intake.PresenceAsync(new PresenceChange(link.HostId, presence, now, null, null, null)).ConfigureAwait(false);
                dispatcher.Gone(link.HostId);
            }
        }
    }

    private async Task FromHostAsync(Func<Guid, ValueTask> take)
    {
        if (Context.Items.TryGetValue(LinkItem, out var item) && item is LinkEntry link)
        {
            await take(link.HostId).ConfigureAwait(false);
        }
        else
        {
            Context.Abort();
        }
    }

    private static UpdateReport Tame(UpdateReport report) => report with { Version = Tame(report.Version, 50) ?? "", Reason = Tame(report.Reason, MaxReason) ?? "" };

    private static Core.Jobs.RunEvent Tame(Core.Jobs.RunEvent e) => e with
    {
        Start = e.Start is { } start ? start with { User = Tame(start.User, 100) ?? "" } : null,
        End = e.End is { } end ? end with { Reason = Tame(end.Reason, MaxReason) } : null,
    };

    /// <summary>Text of a host as a database takes it: no zero characters (PostgreSQL has none in text), and not without end.</summary>
    private static string? Tame(string? text, int most)
    {
        text = text?.Replace('\0', '\u2400');
        return text?.Length > most ? text[..most] : text;
    }

    private ValueTask End()
    {
        Context.Abort();
        return ValueTask.CompletedTask;
    }

    private static LinkWelcome Refuse(LinkRefusal refusal, string message) => new(refusal, message, "", "", SampleRules.DefaultIntervalSeconds);

    private string? Address() => Context.GetHttpContext()?.Connection.RemoteIpAddress is { } address
        ? (address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address).ToString()
        : null;

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "What host {HostId} found for checks could not be kept; it tells it again")]
        public static partial void NotKept(ILogger logger, Guid hostId, Exception e);

        [LoggerMessage(Level = LogLevel.Warning, Message = "A link for host {HostId} from {Address} could not prove the host's key")]
        public static partial void WrongProof(ILogger logger, Guid hostId, string? address);

        [LoggerMessage(Level = LogLevel.Warning, Message = "A machine at {Address} came with the identity of host {HostId}, which is linked from another: a copied disk. It is given an identity of its own")]
        public static partial void Copied(ILogger logger, Guid hostId, string? address);

        [LoggerMessage(Level = LogLevel.Warning, Message = "The link from {Address} was closed: {Problem}")]
        public static partial void Malformed(ILogger logger, string? address, string problem);
    }
}
