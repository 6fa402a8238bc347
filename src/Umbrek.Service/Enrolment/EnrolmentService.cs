using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Links;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Enrolment;

/// <summary>Lets hosts in: at once, after a person's decision, or not.</summary>
public sealed class EnrolmentService(
    IDatabase database, EstateIndex estate, EnrolmentReader reader, LinkRegistry links, SplitTokens splits, ServiceKey key, ReleaseKey releaseKey,
    Gate gate, VaultService vault, AuditLog audit, TimeProvider time) : IDisposable
{
    public void Dispose() => turn.Dispose();

    /// <summary>
    /// One enrolment is written at a time: each appends to the audit log, which has one end. Waiting here costs nothing; waiting in
    /// the database for its one writer would hold a thread each.
    /// </summary>
    private readonly SemaphoreSlim turn = new(1);

    /// <exception cref="ProblemException">403 for a token that lets nobody in, 409 for a key that is known, 400 for a malformed request.</exception>
    public async Task<EnrolmentAnswer> EnrolAsync(EnrolmentRequest request, string? address, CancellationToken cancel)
    {
        var by = new Caller("a new host", address);
        var systemName = Names.Clean(request.SystemName, "system name", out var problem) ?? throw ProblemException.Invalid(problem);
        var label = request.Label is null ? systemName : Names.Clean(request.Label, "label", out problem) ?? throw ProblemException.Invalid(problem);
        if (EnrolmentTokenText.Parse(request.Token) is not { } token)
        {
            throw await RefuseAsync(by, systemName, TokenRefusal.Unknown, null, cancel).ConfigureAwait(false);
        }
        if (request.PublicKey is null || request.Proof is null || !LinkProof.VerifyEnrolment(request.PublicKey, key.Sha256, token.Secret, request.Proof))
        {
            throw ProblemException.Invalid("The host could not prove the key that it sent. It must be P-256, and made for this service.");
        }
        if (request.AccessKey is { } accessKey && AccessKey.Check(accessKey) is { } weak)
        {
            throw ProblemException.Invalid(weak);
        }
        var machine = new MachineMark(request.MachineId, request.HardwareId).Normalise();
        var newcomer = new EnrolmentRow
        {
            Id = Guid.CreateVersion7(),
            At = time.GetUtcNow(),
            Address = address,
            SystemName = systemName,
            Label = label,
            MachineId = machine.MachineId,
            HardwareId = machine.HardwareId,
            AgentVersion = request.AgentVersion is { Length: <= 50 } version ? version : "",
            PublicKey = request.PublicKey,
        };

        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            return await WriteAsync(request, by, token, machine, newcomer, cancel).ConfigureAwait(false);
        }
        finally
        {
            turn.Release();
        }
    }

    private async Task<EnrolmentAnswer> WriteAsync(EnrolmentRequest request, Caller by, EnrolmentTokenText token, MachineMark machine, EnrolmentRow newcomer, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (await db.Enrolments.AsNoTracking().FirstOrDefaultAsync(e => e.PublicKey == request.PublicKey, cancel).ConfigureAwait(false) is { } before)
        {
            // An answer that was lost on its way: the same host asks again with the same key, and nothing is counted twice.
            return await RepeatAsync(db, before, token, cancel).ConfigureAwait(false);
        }
        HostPolicy policy;
        if (splits.Take(token) is { } copiedFrom)
        {
            policy = await TakeSplitAsync(db, newcomer, copiedFrom, cancel).ConfigureAwait(false);
        }
        else
        {
            var installer = await CountUseAsync(db, transaction, by, newcomer, token, cancel).ConfigureAwait(false);
            policy = InstallerService.ReadPolicy(installer.Policy);
            newcomer.InstallerId = installer.Id;
            newcomer.GroupId = installer.GroupId;
            await DecideAsync(db, newcomer, installer, machine, cancel).ConfigureAwait(false);
        }
        var group = await db.Groups.AsNoTracking().FirstAsync(g => g.Id == newcomer.GroupId, cancel).ConfigureAwait(false);
        HostRow? host = null;
        if (newcomer.State == EnrolmentState.Joined)
        {
            host = NewHost(newcomer, policy);
            db.Hosts.Add(host);
        }
        db.Enrolments.Add(newcomer);
        if (request.AccessKey is { } secret)
        {
            await vault.AddOfHostAsync(db, newcomer.Id, secret, newcomer.SystemName, cancel).ConfigureAwait(false);
        }
        var action = newcomer.State == EnrolmentState.Joined ? "enrolment.join" : "enrolment.wait";
        await audit.AddAsync(db, by, action, $"{newcomer.Label} in {group.Path}", cancel, ("id", $"{newcomer.Id}"), ("installer", newcomer.InstallerId?.ToString()), ("systemName", newcomer.SystemName), ("detail", newcomer.Detail)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        if (host is not null)
        {
            estate.Add(host, group.Path);
        }
        reader.Changes.Publish(newcomer.Id);
        return new EnrolmentAnswer(newcomer.Id, newcomer.Label, group.Path, newcomer.State, policy, releaseKey.PublicKey);
    }

    /// <summary>Carries out a person's decision; enrolments that don't wait any more are an error, and then nothing is changed.</summary>
    public async Task<List<EnrolmentInfo>> DecideAsync(EnrolmentDecisionRequest wish, Asker by, CancellationToken cancel)
    {
        if (wish.Ids is not { Count: > 0 and <= Paging.Most })
        {
            throw ProblemException.Invalid($"Name 1 to {Paging.Most} enrolments that wait.");
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var wanted = wish.Ids.Distinct().ToList();
        var rows = await db.Enrolments.Where(e => wanted.Contains(e.Id)).ToListAsync(cancel).ConfigureAwait(false);
        var paths = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path, cancel).ConfigureAwait(false);
        if (rows.Count < wanted.Count || rows.Any(r => !by.Reach.Shows(paths[r.GroupId])))
        {
            throw ProblemException.NotFound("enrolment");
        }
        rows.ForEach(r => gate.Place(by, paths[r.GroupId], Permission.Approve));
        if (rows.Find(r => r.State != EnrolmentState.Waiting) is { } decided)
        {
            throw new ProblemException(409, ProblemTypes.Changed, $"{decided.Label} does not wait any more{(decided.DecidedBy is { } who ? $"; {who} decided about it" : "")}. Nothing was changed; list again.");
        }
        var after = new List<Action>();
        foreach (var row in rows)
        {
            row.DecidedAt = time.GetUtcNow();
            row.DecidedBy = by.Name;
            switch (wish.Decision)
            {
                case EnrolmentDecision.Reject:
                    row.State = EnrolmentState.Rejected;
                    await db.Secrets.Where(s => s.HostId == row.Id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
                    break;
                case EnrolmentDecision.TakeOver:
                    if (row.SameAsHostId is { } same)
                    {
                        // It gets another machine's place in the estate, with all that is kept of it.
                        gate.Host(by, same, Permission.Approve);
                    }
                    after.Add(await TakeOverAsync(db, row, cancel).ConfigureAwait(false));
                    break;
                default:
                    row.State = EnrolmentState.Joined;
                    row.HostId = row.Id;
                    var host = NewHost(row, await PolicyOfAsync(db, row, cancel).ConfigureAwait(false));
                    db.Hosts.Add(host);
                    after.Add(() => estate.Add(host, paths[row.GroupId]));
                    break;
            }
            await audit.AddAsync(db, by, $"enrolment.{Word(wish.Decision)}", $"{row.Label} in {paths[row.GroupId]}", cancel, ("id", $"{row.Id}"), ("host", row.HostId?.ToString())).ConfigureAwait(false);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        after.ForEach(a => a());
        rows.ForEach(r => reader.Changes.Publish(r.Id));
        return [.. rows.Select(r => reader.ToInfo(r, paths[r.GroupId], by.Reach))];
    }

    /// <summary>What a link says to a host that the estate does not know (yet, or under this id).</summary>
    public async Task<EnrolmentRow?> FindAsync(Guid id, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Enrolments.AsNoTracking().FirstOrDefaultAsync(e => e.Id == id, cancel).ConfigureAwait(false);
    }

    private async Task<InstallerRow> CountUseAsync(UmbrekContext db, Microsoft.EntityFrameworkCore.Storage.IDbContextTransaction transaction, Caller by, EnrolmentRow newcomer, EnrolmentTokenText token, CancellationToken cancel)
    {
        var sha256 = token.SecretSha256();
        // Counted by the database itself, so that two hosts at once can't both take the last use.
        var counted = await db.Installers
            .Where(t => t.Sha256 == sha256 && t.RevokedAt == null && (t.ExpiresAt == null || t.ExpiresAt > newcomer.At) && (t.MaxUses == null || t.Uses < t.MaxUses))
            .ExecuteUpdateAsync(t => t.SetProperty(r => r.Uses, r => r.Uses + 1), cancel).ConfigureAwait(false);
        var row = await db.Installers.AsNoTracking().FirstOrDefaultAsync(t => t.Sha256 == sha256, cancel).ConfigureAwait(false);
        if (counted > 0)
        {
            return row!;
        }
        var refusal = row is null ? TokenRefusal.Unknown : InstallerService.Terms(row).Check(newcomer.At);
        if (row is not null)
        {
            newcomer.PublicKey = null;
            newcomer.InstallerId = row.Id;
            newcomer.GroupId = row.GroupId;
            newcomer.State = EnrolmentState.Refused;
            newcomer.Detail = EnrolmentRules.Explain(refusal);
            db.Enrolments.Add(newcomer);
        }
        await audit.AddAsync(db, by, "enrolment.refuse", newcomer.SystemName, cancel, ("reason", $"{refusal}"), ("installer", row?.Id.ToString())).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        throw Refuse(refusal);
    }

    /// <summary>Joined, or waiting: because the installer says so, or because the machine looks like one that is away.</summary>
    private async Task DecideAsync(UmbrekContext db, EnrolmentRow newcomer, InstallerRow installer, MachineMark machine, CancellationToken cancel)
    {
        var known = await FindSameMachineAsync(db, machine, cancel).ConfigureAwait(false);
        newcomer.SameAsHostId = known?.Id;
        if (known is { Presence.State: not PresenceState.Linked })
        {
            newcomer.State = EnrolmentState.Waiting;
            newcomer.Why = WaitingReason.SameMachine;
            newcomer.Detail = $"It looks like the machine of {known.Label} in {known.GroupPath}, which is away. Let it take over that entry, or let it in as a host of its own.";
        }
        else if (installer.ApprovalNeeded)
        {
            newcomer.State = EnrolmentState.Waiting;
            newcomer.Why = WaitingReason.ApprovalNeeded;
        }
        else
        {
            newcomer.State = EnrolmentState.Joined;
            newcomer.HostId = newcomer.Id;
            newcomer.Detail = known is null ? null : $"It shows the same machine id as {known.Label}, which is linked: a second agent there, or a copied disk.";
        }
    }

    private async Task<HostSummary?> FindSameMachineAsync(UmbrekContext db, MachineMark machine, CancellationToken cancel)
    {
        if (machine is { MachineId: null, HardwareId: null })
        {
            return null;
        }
        var alike = await db.Hosts.AsNoTracking()
            .Where(h => h.RetiredAt == null).Where(h => (machine.MachineId != null && h.MachineId == machine.MachineId) || (machine.HardwareId != null && h.HardwareId == machine.HardwareId))
            .Select(h => new { h.Id, h.MachineId, h.HardwareId }).ToListAsync(cancel).ConfigureAwait(false);
        return alike.Where(h => machine.IsSameMachineAs(new MachineMark(h.MachineId, h.HardwareId)))
            .Select(h => estate.Find(h.Id)).OfType<HostSummary>()
            .OrderBy(h => h.Presence.State == PresenceState.Linked).ThenByDescending(h => h.LastSeenAt).FirstOrDefault();
    }

    private static async Task<HostPolicy> TakeSplitAsync(UmbrekContext db, EnrolmentRow newcomer, Guid copiedFrom, CancellationToken cancel)
    {
        var original = await db.Hosts.AsNoTracking().FirstAsync(h => h.Id == copiedFrom, cancel).ConfigureAwait(false);
        newcomer.GroupId = original.GroupId;
        newcomer.State = EnrolmentState.Joined;
        newcomer.HostId = newcomer.Id;
        newcomer.SameAsHostId = original.Id;
        newcomer.Detail = $"Its disk is a copy of {original.Label}'s: both came with one identity at once, and this machine was given its own.";
        return InstallerService.ReadPolicy(original.Policy);
    }

    private async Task<EnrolmentAnswer> RepeatAsync(UmbrekContext db, EnrolmentRow before, EnrolmentTokenText token, CancellationToken cancel)
    {
        var sha256 = token.SecretSha256();
        if (!await db.Installers.AnyAsync(i => i.Id == before.InstallerId && i.Sha256 == sha256, cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.AlreadyEnrolled, "A host with this key is enrolled already. Remove the agent's identity file on the new host, so that it makes a key of its own.");
        }
        var path = await db.Groups.Where(g => g.Id == before.GroupId).Select(g => g.Path).FirstAsync(cancel).ConfigureAwait(false);
        return new EnrolmentAnswer(before.Id, before.Label, path, before.State, await PolicyOfAsync(db, before, cancel).ConfigureAwait(false), releaseKey.PublicKey);
    }

    /// <summary>The known entry goes on with the new machine's key; whatever still answers with the old key is cut off.</summary>
    private async Task<Action> TakeOverAsync(UmbrekContext db, EnrolmentRow row, CancellationToken cancel)
    {
        var known = row.SameAsHostId is { } id ? await db.Hosts.FirstOrDefaultAsync(h => h.Id == id, cancel).ConfigureAwait(false) : null;
        if (known is null)
        {
            throw ProblemException.Invalid($"{row.Label} looks like no host that is known, so there is no entry that it could take over. Approve it as a host of its own.");
        }
        row.State = EnrolmentState.TookOver;
        row.HostId = known.Id;
        known.PublicKey = row.PublicKey!;
        known.SystemName = row.SystemName;
        known.MachineId = row.MachineId;
        known.HardwareId = row.HardwareId;
        known.AgentVersion = row.AgentVersion;
        known.Policy = System.Text.Json.JsonSerializer.Serialize(await PolicyOfAsync(db, row, cancel).ConfigureAwait(false), Wire.WireJson.Default.HostPolicy);
        await db.Secrets.Where(s => s.HostId == row.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.HostId, known.Id), cancel).ConfigureAwait(false);
        return () =>
        {
            estate.Rekey(known.Id, known.PublicKey, known.HardwareId);
            links.Find(known.Id)?.Caller.Abort();
        };
    }

    private static async Task<HostPolicy> PolicyOfAsync(UmbrekContext db, EnrolmentRow row, CancellationToken cancel) => InstallerService.ReadPolicy(
        await db.Installers.Where(i => i.Id == row.InstallerId).Select(i => i.Policy).FirstOrDefaultAsync(cancel).ConfigureAwait(false) ?? "");

    private HostRow NewHost(EnrolmentRow row, HostPolicy policy) => new()
    {
        Id = row.Id,
        GroupId = row.GroupId,
        SystemName = row.SystemName,
        Label = row.Label,
        MachineId = row.MachineId,
        HardwareId = row.HardwareId,
        Policy = System.Text.Json.JsonSerializer.Serialize(policy, Wire.WireJson.Default.HostPolicy),
        PublicKey = row.PublicKey!,
        EnrolledAt = row.At,
        EnrolledWith = row.InstallerId ?? Guid.Empty,
        AgentVersion = row.AgentVersion,
        LastSeenAt = row.At,
        Presence = PresenceState.Expected,
        PresenceSince = time.GetUtcNow(),
        Version = 1,
    };

    private async Task<ProblemException> RefuseAsync(Caller by, string systemName, TokenRefusal refusal, Guid? installer, CancellationToken cancel)
    {
        await audit.AddAsync(by, "enrolment.refuse", systemName, cancel, ("reason", $"{refusal}"), ("installer", installer?.ToString())).ConfigureAwait(false);
        return Refuse(refusal);
    }

    private static ProblemException Refuse(TokenRefusal refusal) => new(403, ProblemTypes.TokenRefused, EnrolmentRules.Explain(refusal));

    private static string Word(EnrolmentDecision decision) => decision switch
    {
        EnrolmentDecision.Approve => "approve",
        EnrolmentDecision.Reject => "reject",
        _ => "take-over",
    };
}
