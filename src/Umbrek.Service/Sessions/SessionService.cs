using System.Collections.Concurrent;
using System.Linq.Expressions;
using System.Security.Claims;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Desktop;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Relay;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;
using Umbrek.Service.Files;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Sessions;

/// <summary>
/// Sessions: opened by a technician on a host, ended by him, by who administers the place, by time, or at once when what let him in is
/// no more.
/// </summary>
public sealed class SessionService(IDatabase database, Gate gate, AccessIndex access, SignIns signIns, EstateIndex estate, IAgentLinks links, ChannelBroker broker, SealedOrders orders, ServiceKey key, AuditLog audit, TimeProvider time) : BackgroundService
{
    /// <summary>A session in which nothing happens ends.</summary>
    public static readonly TimeSpan Idle = TimeSpan.FromMinutes(30);

    private const int MostOfOne = 100;
    private const int MostListed = 200;
    private const int MostTries = 50;
    private const int MostReports = 10_000;
    private const int MostDeeds = 200;
    private const int MostAnswers = 50;
    private const int MostChannels = 32;
    private const int MostActs = 1000;
    private static readonly TimeSpan Lately = TimeSpan.FromMinutes(1);
    private static readonly PermissionSet Acts = PermissionSet.Of(Permission.Watch, Permission.Control, Permission.Shell, Permission.Run, Permission.ReadFiles, Permission.WriteFiles, Permission.Power, Permission.Software);

    private readonly ConcurrentDictionary<Guid, Live> live = new();

    /// <summary>Channels by which somebody acts, while they are open or were a moment ago, and nobody at the host was heard of about them.</summary>
    private readonly ConcurrentDictionary<Guid, ActingChannel> asking = new();

    /// <summary>Channels to files, while they are open or were a moment ago, and how often their hosts have said what was read there.</summary>
    private readonly ConcurrentDictionary<Guid, FileChannel> reading = new();

    /// <summary>Ended a short while ago: what their hosts say of them may still be on its way.</summary>
    private readonly ConcurrentDictionary<Guid, Live> lately = new();

    private sealed class ActingChannel(Guid hostId, Guid sessionId)
    {
        public Guid HostId { get; } = hostId;
        public Guid SessionId { get; } = sessionId;
        public int Answers;
        public int Deeds;
    }

    private sealed class FileChannel(SessionRow session)
    {
        public SessionRow Session { get; } = session;
        public int Reports;
    }

    private sealed class Live(SessionRow row, Guid? signInId, CancellationToken signInEnded) : IDisposable
    {
        private readonly CancellationTokenSource over = new();

        public SessionRow Row { get; } = row;
        public Guid? SignInId { get; } = signInId;
        public CancellationToken SignInEnded { get; } = signInEnded;
        public CancellationToken Over => over.Token;
        public DateTimeOffset UsedAt { get; set; } = row.OpenedAt;

        /// <summary>The service acts in it for a technician: what is done is in the audit log by itself.</summary>
        public bool IsOwn => SignInId is null;

        /// <summary>How often the host has said that its key was tried.</summary>
        public int Tries;

        /// <summary>Channels that are open, or may still be come to.</summary>
        public int Channels;

        /// <summary>What its channels took: without all of it, it does not go on.</summary>
        public PermissionSet Took { get; set; } = PermissionSet.None;

        /// <summary>The key is being changed in this session itself.</summary>
        public bool ChangesKey { get; set; }

        public void Close() => over.Cancel();

        public void Dispose() => over.Dispose();
    }

    public async Task<SessionInfo> OpenAsync(Guid hostId, NewSession wish, Asker by, ClaimsPrincipal user, CancellationToken cancel)
    {
        var host = gate.Host(by, hostId, Permission.See);
        if ((by.Reach.At(host.GroupPath) & Acts) == PermissionSet.None)
        {
            throw gate.Refuse(by, Permission.Watch, host.GroupPath, host.Label);
        }
        if (!links.IsLinked(hostId))
        {
            throw new ProblemException(409, ProblemTypes.HostAway, $"{host.Label} is away; a session takes a host that is linked. Try again when it is back.");
        }
        var reason = string.IsNullOrWhiteSpace(wish.Reason) ? null : Names.Clean(wish.Reason, "reason", out var problem) ?? throw ProblemException.Invalid(problem);
        if (live.Values.Count(s => s.Row.TechnicianId == by.Id) >= MostOfOne)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"You have {MostOfOne} sessions open, the most there may be. End some: 'umbrek session list'.");
        }
        var row = await BeginAsync(host, reason, by, await signIns.HoldAsync(SignIns.IdOf(user), cancel).ConfigureAwait(false), cancel).ConfigureAwait(false);
        return ToInfo(row, host) with { HostKey = estate.FindKey(hostId), ServiceKey = key.Sha256 };
    }

    /// <summary>Opens a session in which the service acts for a technician, with what the vault has.</summary>
    /// <exception cref="DoorException">The host is away.</exception>
    public async Task<OwnSession> OpenOwnAsync(HostSummary host, Asker by, string reason, CancellationToken cancel)
    {
        if (!links.IsLinked(host.Id) || estate.FindKey(host.Id) is not { } hostKey)
        {
            throw new DoorException($"{host.Label} is away.");
        }
        var row = await BeginAsync(host, reason, by, CancellationToken.None, cancel).ConfigureAwait(false);
        return new OwnSession(row.Id, host, hostKey, by.Name, this);
    }

    /// <summary>The service's end of a key channel in a session of its own.</summary>
    internal async Task<KeyExchange> OpenKeyChannelAsync(OwnSession own, string kind, CancellationToken cancel)
    {
        if (!live.TryGetValue(own.Id, out var session))
        {
            throw new DoorException("The session has ended.");
        }
        session.ChangesKey |= kind == ChannelKinds.NewKey;
        var channelId = Guid.CreateVersion7();
        var (ticket, host, letGo) = broker.OpenOwn(session.Over);
        await links.SendAsync(own.Host.Id, ToAgent.OpenChannel, new ChannelOrder(channelId, own.Id, kind, ticket, own.Technician), cancel).ConfigureAwait(false);
        try
        {
            return new KeyExchange(await host.WaitAsync(cancel).ConfigureAwait(false), ChannelBinding.Of(key.Sha256, own.Host.Id, own.HostKey, own.Id, channelId), letGo);
        }
        catch (Exception e) when (e is TimeoutException or OperationCanceledException)
        {
            letGo();
            cancel.ThrowIfCancellationRequested();
            throw new DoorException(e is TimeoutException ? $"{own.Host.Label} did not come to the channel within {ChannelJoin.Within.TotalSeconds:0} s. Look at its agent." : "The session has ended.");
        }
    }

    internal Task EndOwnAsync(Guid id) => EndAsync(id, "done", null);

    private async Task<SessionRow> BeginAsync(HostSummary host, string? reason, Asker by, CancellationToken signInEnded, CancellationToken cancel)
    {
        var row = new SessionRow { Id = Guid.CreateVersion7(), HostId = host.Id, TechnicianId = by.Id, Technician = by.Name, Address = by.Address, Reason = reason, OpenedAt = time.GetUtcNow() };
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            db.Sessions.Add(row);
            if (by.SignInId is not null)
            {
                await audit.AddAsync(db, by, "session.open", $"{host.Label} in {host.GroupPath}", cancel, ("id", $"{row.Id}"), ("reason", reason)).ConfigureAwait(false);
            }
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        var session = new Live(row, by.SignInId, signInEnded);
        live[row.Id] = session;
        Watch(session, by.Seat);
        if (!session.IsOwn && Lapse(session, access.Find(by.Id)) is { } why)
        {
            // The host moved while the session was being opened.
            _ = EndAsync(row.Id, why, null);
        }
        return row;
    }

    /// <summary>Opens a channel of a session: the host is told to come to it, and the caller is given his ticket.</summary>
    /// <param name="tap">Sees what goes over it; null where nobody looks.</param>
    public async Task<ChannelTicket> OpenChannelAsync(Guid sessionId, NewChannel wish, Asker by, IChannelTap? tap, CancellationToken cancel)
    {
        var (row, host) = await FindAsync(sessionId, by, cancel).ConfigureAwait(false);
        if (row.TechnicianId != by.Id)
        {
            throw new ProblemException(403, ProblemTypes.NotAllowed, $"This is a session of {row.Technician}. Open one of your own.");
        }
        if (!live.TryGetValue(sessionId, out var session))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The session has ended: {row.EndReason ?? "it is over"}. Open another.");
        }
        Permission? takes = wish.Kind switch
        {
            ChannelKinds.Key => null,
            ChannelKinds.NewKey => Permission.Administer,
            ChannelKinds.Shell => Permission.Shell,
            ChannelKinds.Processes or ChannelKinds.Services => Permission.Run,
            ChannelKinds.Logs => Permission.ReadFiles,
            ChannelKinds.Files => FileService.PermissionFor(wish.Files ?? new()),
            ChannelKinds.Desktop => DesktopService.PermissionFor(wish.Desktop ?? new()),
            _ => throw ProblemException.Invalid($"There is no channel '{wish.Kind}'; there are {ChannelKinds.Key}, {ChannelKinds.NewKey}, {ChannelKinds.Shell}, {ChannelKinds.Processes}, {ChannelKinds.Services}, {ChannelKinds.Logs}, {ChannelKinds.Files} and {ChannelKinds.Desktop}."),
        };
        if (takes is { } permission)
        {
            gate.Host(by, host.Id, permission);
            session.Took |= PermissionSet.Of(permission);
        }
        // A channel rests on the sign-in that opened it, which need not be the one of its session.
        var signInEnded = await signIns.HoldAsync(by.SignInId, cancel).ConfigureAwait(false);
        session.UsedAt = time.GetUtcNow();
        if (wish.Kind == ChannelKinds.NewKey)
        {
            session.ChangesKey = true;
            await audit.AddAsync(by, "access-key.change", $"{host.Label} in {host.GroupPath}", cancel, ("session", $"{sessionId}")).ConfigureAwait(false);
        }
        if (Interlocked.Increment(ref session.Channels) > MostChannels)
        {
            Interlocked.Decrement(ref session.Channels);
            throw new ProblemException(409, ProblemTypes.Conflict, $"{MostChannels} channels of this session are open, the most there may be. End some, or open another session.");
        }
        var ended = CancellationTokenSource.CreateLinkedTokenSource(session.Over, signInEnded);
        var channelId = Guid.CreateVersion7();
        if (wish.Kind is ChannelKinds.Shell or ChannelKinds.Processes or ChannelKinds.Services or ChannelKinds.Logs or ChannelKinds.Files or ChannelKinds.Desktop)
        {
            asking[channelId] = new ActingChannel(host.Id, sessionId);
        }
        if (wish.Kind == ChannelKinds.Files)
        {
            reading[channelId] = new FileChannel(session.Row);
        }
        void Over()
        {
            ended.Dispose();
            Interlocked.Decrement(ref session.Channels);
            _ = ForgetAsync(channelId);
        }
        void Used() => session.UsedAt = time.GetUtcNow();
        // Whoever looks at many small ones does nothing else, for as long as he looks.
        var isAtDesktop = wish is { Kind: ChannelKinds.Desktop, Desktop.Small: null };
        var (own, its) = broker.Open(isAtDesktop ? () => { } : Used, Over, isAtDesktop ? new DesktopUse(Used, tap) : tap, wish.Kind is ChannelKinds.Files or ChannelKinds.Desktop ? ChannelBroker.LargeWindow : ChannelBroker.SmallWindow, ended.Token);
        await links.SendAsync(host.Id, ToAgent.OpenChannel, new ChannelOrder(channelId, sessionId, wish.Kind, its, by.Name, wish.Kind == ChannelKinds.Shell && wish.Shell is { } shell ? new ShellOrder(by.Id, shell, wish.Seal) : null,
            wish.Kind is ChannelKinds.Processes or ChannelKinds.Services && wish.View is { } view ? new ViewOrder(view, wish.Seal) : null,
            wish.Kind == ChannelKinds.Logs && wish.Log is { } log ? new LogOrder(log, wish.Seal) : null,
            wish.Kind == ChannelKinds.Files && wish.Files is { } files ? new FilesOrder(files, wish.Seal) : null,
            wish.Kind == ChannelKinds.Desktop && wish.Desktop is { } desktop ? new DesktopOrder(desktop, wish.Seal, by.Reach.May(Permission.Shell, host.GroupPath)) : null, by.Address, row.Reason == wish.Kind ? null : row.Reason), cancel).ConfigureAwait(false);
        return new ChannelTicket(channelId, ChannelJoin.Path, own);
    }

    /// <summary>What a person there has said may come a moment behind the end of the channel: by another way.</summary>
    private async Task ForgetAsync(Guid channelId)
    {
        await Task.Delay(Lately, time).ConfigureAwait(false);
        asking.TryRemove(channelId, out _);
        reading.TryRemove(channelId, out _);
    }

    /// <summary>The session of a channel to files, for what its host says of it. No host fills the log by saying much, and nothing goes on that is not written down.</summary>
    public async Task<SessionRow?> ReportsOfAsync(Guid channelId, Guid hostId)
    {
        if (!reading.TryGetValue(channelId, out var channel) || channel.Session.HostId != hostId)
        {
            return null;
        }
        if (Interlocked.Increment(ref channel.Reports) <= MostReports)
        {
            return channel.Session;
        }
        await EndAsync(channel.Session.Id, $"more than {MostReports} transfers were told of one channel", null).ConfigureAwait(false);
        return null;
    }

    /// <summary>A person at the host has answered about what a channel is for; whoever logs in while it is open is asked too. No host fills the log by inventing it.</summary>
    /// <returns>The session that it was for, or null.</returns>
    public Guid? AnsweredAbout(Guid channelId, Guid hostId) =>
        asking.TryGetValue(channelId, out var channel) && channel.HostId == hostId && Interlocked.Increment(ref channel.Answers) <= MostAnswers ? channel.SessionId : null;

    /// <summary>Something was done at the host while a channel was open. No host fills the log by inventing it.</summary>
    /// <returns>The session of the channel, or null.</returns>
    public Guid? DoneIn(Guid channelId, Guid hostId) =>
        asking.TryGetValue(channelId, out var channel) && channel.HostId == hostId && Interlocked.Increment(ref channel.Deeds) <= MostDeeds ? channel.SessionId : null;

    /// <summary>Sessions at hosts that the caller may see, live ones first, then the latest.</summary>
    /// <param name="text">A part of what it was for, of what was written about it, or of the technician's name.</param>
    public async Task<List<SessionInfo>> ListAsync(Guid? hostId, bool liveOnly, string? text, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var groups = access.GroupsWith(by.Reach, Permission.See);
        var rows = await db.Sessions.AsNoTracking().Where(s => (hostId == null || s.HostId == hostId) && (!liveOnly || s.EndedAt == null))
            .Where(s => groups == null || db.Hosts.Any(h => h.Id == s.HostId && groups.Contains(h.GroupId)))
            .Where(Says(text))
            .OrderByDescending(s => s.EndedAt == null).ThenByDescending(s => s.OpenedAt).Take(MostListed).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(r => estate.Find(r.HostId, by.Reach) is { } host ? ToInfo(r, host) : null).OfType<SessionInfo>()];
    }

    private static Expression<Func<SessionRow, bool>> Says(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
        {
            return s => true;
        }
        var part = text.Trim().ToLowerInvariant();
#pragma warning disable CA1304, CA1311, CA1862 // The database compares.
        return s => (s.Note != null && s.Note.ToLower().Contains(part)) || (s.Reason != null && s.Reason.ToLower().Contains(part)) || s.Technician.ToLower().Contains(part);
#pragma warning restore CA1304, CA1311, CA1862
    }

    /// <summary>Writes what is to be known about a session: its technician, or whoever administers the place.</summary>
    public async Task<SessionInfo> NoteAsync(Guid id, SessionNote wish, Asker by, CancellationToken cancel)
    {
        var (row, host) = await FindAsync(id, by, cancel).ConfigureAwait(false);
        Mine(row, host, by);
        var note = string.IsNullOrWhiteSpace(wish.Note) ? null : wish.Note.Trim();
        if (note?.Length > SessionNote.MaxLength)
        {
            throw ProblemException.Invalid($"A note has {SessionNote.MaxLength} characters at most; this one has {note.Length}.");
        }
        if (note is not null && note.Any(c => char.IsControl(c) && c is not ('\n' or '\t')))
        {
            throw ProblemException.Invalid("A note is text in lines; take its control characters away.");
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        await db.Sessions.Where(s => s.Id == id).ExecuteUpdateAsync(set => set.SetProperty(s => s.Note, note), cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "session.note", $"{host.Label} in {host.GroupPath}", cancel, ("id", $"{id}"), ("before", row.Note), ("after", note)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        row.Note = note;
        return ToInfo(row, host);
    }

    /// <summary>What was done in a session, in its order: for its technician, and for whoever administers the place.</summary>
    public async Task<List<SessionAct>> ActsAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var (row, host) = await FindAsync(id, by, cancel).ConfigureAwait(false);
        Mine(row, host, by);
        var (text, target, until) = ($"{id}", $"{host.Label} in {host.GroupPath}", (row.EndedAt ?? time.GetUtcNow()) + Lately);
        await using var db = database.Open();
        // What was done beside its channels, such as a job, stands under the host and the technician.
        var rows = await db.Audit.AsNoTracking().Where(a => a.At >= row.OpenedAt.AddSeconds(-1) && a.At <= until && (a.Detail.Contains(text) || (a.Actor == row.Technician && a.Target == target && (row.EndedAt == null || a.At <= row.EndedAt))))
            .OrderBy(a => a.Number).Take(MostActs).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(a => new SessionAct(a.At, a.Actor, a.Action, a.Detail))];
    }

    private void Mine(SessionRow row, HostSummary host, Asker by)
    {
        if (row.TechnicianId != by.Id)
        {
            gate.Host(by, host.Id, Permission.Administer);
        }
    }

    public async Task<SessionInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var (row, host) = await FindAsync(id, by, cancel).ConfigureAwait(false);
        return ToInfo(row, host) with { HostKey = estate.FindKey(host.Id), ServiceKey = key.Sha256 };
    }

    /// <summary>Ends a session of one's own, or at a place that one administers.</summary>
    public async Task<SessionInfo> EndAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var (row, host) = await FindAsync(id, by, cancel).ConfigureAwait(false);
        Mine(row, host, by);
        await EndAsync(id, $"ended by {by.Name}", by).ConfigureAwait(false);
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Sessions of the technician that are open at a host.</summary>
    public List<Guid> OpenOf(Guid hostId, Asker by) => [.. live.Values.Where(s => s.Row.HostId == hostId && s.Row.TechnicianId == by.Id).Select(s => s.Row.Id)];

    /// <summary>The host of a session that is open and belongs to the technician; null when there is no such.</summary>
    public Guid? Use(Guid id, Asker by)
    {
        if (!live.TryGetValue(id, out var session) || session.Row.TechnicianId != by.Id)
        {
            return null;
        }
        session.UsedAt = time.GetUtcNow();
        return session.Row.HostId;
    }

    /// <summary>A host says that its key was tried in a session of its own: proven, or refused.</summary>
    public async Task KeyTriedAsync(Guid hostId, KeyReport report)
    {
        if (!(live.TryGetValue(report.SessionId, out var session) || lately.TryGetValue(report.SessionId, out session)) || session.Row.HostId != hostId || Interlocked.Increment(ref session.Tries) > MostTries || (session.IsOwn && report.Why is null))
        {
            return;
        }
        var host = estate.Find(hostId);
        var action = report.Why is not null ? "access-key.refuse" : report.Changed ? "access-key.changed" : "access-key.prove";
        await audit.AddAsync(new Caller(session.Row.Technician, session.Row.Address), action, host is null ? $"{hostId}" : $"{host.Label} in {host.GroupPath}", CancellationToken.None, ("session", $"{report.SessionId}"), ("secret", report.Secret), ("why", report.Why)).ConfigureAwait(false);
    }

    /// <summary>The host's access key was changed, and with it all sessions ended that were open there.</summary>
    public async Task KeyChangedAsync(Guid hostId)
    {
        foreach (var session in live.Values.Where(s => s.Row.HostId == hostId && !s.ChangesKey))
        {
            await EndAsync(session.Row.Id, "the host's access key was changed, and open sessions ended with it", null).ConfigureAwait(false);
        }
    }

    /// <summary>Ends sessions that an earlier life of the service left open, then those in which nothing happens.</summary>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await using (var db = database.Open())
        {
            var now = time.GetUtcNow();
            await db.Sessions.Where(s => s.EndedAt == null).ExecuteUpdateAsync(set => set.SetProperty(s => s.EndedAt, now).SetProperty(s => s.EndReason, SessionEnds.ServiceRestarted), stoppingToken).ConfigureAwait(false);
        }
        await Task.WhenAll(FollowAsync(stoppingToken), SweepAsync(stoppingToken)).ConfigureAwait(false);
    }

    private async Task SweepAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMinutes(1), time);
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false))
        {
            foreach (var session in live.Values.Where(s => time.GetUtcNow() - s.UsedAt >= Idle))
            {
                await EndAsync(session.Row.Id, $"{SessionEnds.Idle} {Units.Span(Idle)}", null, keepsShells: true).ConfigureAwait(false);
            }
            await EndExpiredAsync(stoppingToken).ConfigureAwait(false);
            await signIns.CutExpiredAsync(stoppingToken).ConfigureAwait(false);
            foreach (var (id, _) in lately.Where(s => time.GetUtcNow() - s.Value.Row.EndedAt > Lately))
            {
                lately.TryRemove(id, out _);
            }
        }
    }

    /// <summary>Ends sessions whose host has moved to where their technician may not do what they are for.</summary>
    private async Task FollowAsync(CancellationToken stopping)
    {
        using var reader = estate.Changes.Subscribe();
        while (true)
        {
            var changed = await reader.TakeAsync(stopping).ConfigureAwait(false);
            foreach (var session in live.Values.Where(s => !s.IsOwn && changed.Contains(s.Row.HostId)))
            {
                if (Lapse(session, access.Find(session.Row.TechnicianId)) is { } why)
                {
                    // What it holds open ends first; the next is not kept waiting for what is written about this one.
                    _ = EndAsync(session.Row.Id, why, null);
                }
            }
        }
    }

    /// <returns>Null while the technician may do at the session's host what it is for, else why not.</returns>
    private string? Lapse(Live session, Seat? seat)
    {
        var may = seat is not null && estate.Find(session.Row.HostId) is { } host ? seat.Reach.At(host.GroupPath) & Acts : PermissionSet.None;
        return may != PermissionSet.None && may.Includes(session.Took & Acts) ? null
            : $"{session.Row.Technician} may {(may == PermissionSet.None ? "do nothing there any more" : "no longer do there what it was for")}";
    }

    /// <summary>A sign-in that was not ended ends by time, and what rests on it within a minute.</summary>
    private async Task EndExpiredAsync(CancellationToken cancel)
    {
        var resting = live.Values.Where(s => s.SignInId is not null).ToList();
        if (resting.Count == 0)
        {
            return;
        }
        var (ids, now) = (resting.ConvertAll(s => s.SignInId!.Value), time.GetUtcNow());
        await using var db = database.Open();
        var good = (await db.SignIns.Where(s => ids.Contains(s.Id) && s.ExpiresAt > now).Select(s => s.Id).ToListAsync(cancel).ConfigureAwait(false)).ToHashSet();
        foreach (var session in resting.Where(s => !good.Contains(s.SignInId!.Value)))
        {
            await EndAsync(session.Row.Id, "its sign-in is over", null).ConfigureAwait(false);
        }
    }

    /// <summary>Sees to it that the session ends with what let its technician in.</summary>
    private void Watch(Live session, Seat seat)
    {
        var changed = CancellationTokenSource.CreateLinkedTokenSource(seat.Lapsed, session.SignInEnded, session.Over);
        changed.Token.Register(() =>
        {
            changed.Dispose();
            if (session.Over.IsCancellationRequested)
            {
                return;
            }
            if (session.SignInEnded.IsCancellationRequested)
            {
                _ = EndAsync(session.Row.Id, "its sign-in ended", null);
            }
            else
            {
                var now = access.Find(session.Row.TechnicianId);
                if (Lapse(session, now == seat ? null : now) is { } why)
                {
                    _ = EndAsync(session.Row.Id, why, null);
                }
                else
                {
                    Watch(session, now!);
                }
            }
        });
    }

    private async Task EndAsync(Guid id, string why, Asker? by, bool keepsShells = false)
    {
        if (!live.TryRemove(id, out var session))
        {
            return;
        }
        lately[id] = session;
        session.Row.EndedAt = time.GetUtcNow();
        // First what it holds open, then what is written about it.
        session.Close();
        orders.Forget(id);
        await links.SendAsync(session.Row.HostId, ToAgent.EndSession, new SessionEnd(id, keepsShells), CancellationToken.None).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync().ConfigureAwait(false);
        var now = time.GetUtcNow();
        await db.Sessions.Where(s => s.Id == id).ExecuteUpdateAsync(set => set.SetProperty(s => s.EndedAt, now).SetProperty(s => s.EndReason, why)).ConfigureAwait(false);
        var host = estate.Find(session.Row.HostId);
        if (session.IsOwn)
        {
            await transaction.CommitAsync().ConfigureAwait(false);
            return;
        }
        await audit.AddAsync(db, by ?? new Caller(session.Row.Technician, session.Row.Address), "session.end", host is null ? $"{session.Row.HostId}" : $"{host.Label} in {host.GroupPath}", CancellationToken.None, ("id", $"{id}"), ("why", why)).ConfigureAwait(false);
        await transaction.CommitAsync().ConfigureAwait(false);
    }

    private async Task<(SessionRow Row, HostSummary Host)> FindAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Sessions.AsNoTracking().FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false) is { } row && estate.Find(row.HostId, by.Reach) is { } host
            ? (row, host)
            : throw ProblemException.NotFound("session");
    }

    private static SessionInfo ToInfo(SessionRow row, HostSummary host) =>
        new(row.Id, row.HostId, host.Label, host.GroupPath, row.TechnicianId, row.Technician, row.Address, row.Reason, row.OpenedAt, row.EndedAt, row.EndReason, row.Note);
}
