using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Links;
using Umbrek.Core.Text;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Enrolment;

/// <summary>Tokens, and the hosts that come in with them.</summary>
public sealed class EnrolmentService(IDatabase database, EstateIndex estate, GroupService groups, ServiceKey key, TimeProvider time)
{
    private static readonly TimeSpan DefaultLife = TimeSpan.FromDays(7);

    public async Task<CreatedEnrolmentToken> CreateTokenAsync(NewEnrolmentToken wish, string by, string serviceAddress, CancellationToken cancel)
    {
        if (wish.MaxUses is { } uses && uses is < 1 or > 100_000)
        {
            throw ProblemException.Invalid("A token may be used 1 to 100000 times; leave the number out for no limit.");
        }
        if (wish.ExpiresInSeconds is { } seconds && seconds is < 60 or > 366L * 86400)
        {
            throw ProblemException.Invalid("A token lives from a minute to a year.");
        }
        var note = wish.Note is null ? null : Names.Clean(wish.Note, "note", out var problem) ?? throw ProblemException.Invalid(problem);
        await using var db = database.Open();
        var group = await groups.FindAsync(db, wish.GroupPath, cancel).ConfigureAwait(false);
        var token = EnrolmentTokenText.Create(key.Sha256);
        var now = time.GetUtcNow();
        var row = new EnrolmentTokenRow
        {
            Id = Guid.CreateVersion7(),
            GroupId = group.Id,
            Sha256 = token.SecretSha256(),
            Note = note,
            CreatedAt = now,
            CreatedBy = by,
            ExpiresAt = now + (wish.ExpiresInSeconds is { } life ? TimeSpan.FromSeconds(life) : DefaultLife),
            MaxUses = wish.MaxUses,
        };
        db.EnrolmentTokens.Add(row);
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        return new CreatedEnrolmentToken(ToInfo(row, group.Path, now), token.ToString(), $"umbrek-agent enrol --service {serviceAddress} --token {token} && umbrek-agent run");
    }

    public async Task<List<EnrolmentTokenInfo>> ListTokensAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var now = time.GetUtcNow();
        var rows = await db.EnrolmentTokens.AsNoTracking()
            .Join(db.Groups, t => t.GroupId, g => g.Id, (t, g) => new { Token = t, g.Path })
            .OrderByDescending(t => t.Token.Id).Take(Paging.Most).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(r => ToInfo(r.Token, r.Path, now))];
    }

    public async Task<EnrolmentTokenInfo> RevokeTokenAsync(Guid id, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.EnrolmentTokens.FirstOrDefaultAsync(t => t.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("enrolment token");
        row.RevokedAt ??= time.GetUtcNow();
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        var path = await db.Groups.Where(g => g.Id == row.GroupId).Select(g => g.Path).FirstAsync(cancel).ConfigureAwait(false);
        return ToInfo(row, path, time.GetUtcNow());
    }

    /// <exception cref="ProblemException">403 for a token that lets nobody in, 409 for a key that is known, 400 for a malformed request.</exception>
    public async Task<EnrolmentAnswer> EnrolAsync(EnrolmentRequest request, CancellationToken cancel)
    {
        var token = EnrolmentTokenText.Parse(request.Token) ?? throw Refuse(TokenRefusal.Unknown);
        var systemName = Names.Clean(request.SystemName, "system name", out var problem) ?? throw ProblemException.Invalid(problem);
        var label = request.Label is null ? systemName : Names.Clean(request.Label, "label", out problem) ?? throw ProblemException.Invalid(problem);
        if (!LinkProof.VerifyEnrolment(request.PublicKey, key.Sha256, token.Secret, request.Proof))
        {
            throw ProblemException.Invalid("The host could not prove the key that it sent. It must be P-256, and made for this service.");
        }

        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var sha256 = token.SecretSha256();
        var now = time.GetUtcNow();
        // Counted by the database itself, so that two hosts at once can't both take the last use.
        var counted = await db.EnrolmentTokens
            .Where(t => t.Sha256 == sha256 && t.RevokedAt == null && (t.ExpiresAt == null || t.ExpiresAt > now) && (t.MaxUses == null || t.Uses < t.MaxUses))
            .ExecuteUpdateAsync(t => t.SetProperty(r => r.Uses, r => r.Uses + 1), cancel).ConfigureAwait(false);
        var row = await db.EnrolmentTokens.AsNoTracking().FirstOrDefaultAsync(t => t.Sha256 == sha256, cancel).ConfigureAwait(false) ?? throw Refuse(TokenRefusal.Unknown);
        if (counted == 0)
        {
            throw Refuse(new TokenTerms(row.ExpiresAt, row.MaxUses, row.Uses, row.RevokedAt).Check(now));
        }
        var group = await db.Groups.AsNoTracking().FirstAsync(g => g.Id == row.GroupId, cancel).ConfigureAwait(false);
        var host = new HostRow
        {
            Id = Guid.CreateVersion7(),
            GroupId = group.Id,
            SystemName = systemName,
            Label = label,
            MachineId = request.MachineId is { Length: <= 100 } machine ? machine : null,
            PublicKey = request.PublicKey,
            EnrolledAt = now,
            EnrolledWith = row.Id,
            AgentVersion = request.AgentVersion.Length <= 50 ? request.AgentVersion : "",
            LastSeenAt = now,
            Presence = PresenceState.Expected,
            PresenceSince = now,
            Version = 1,
        };
        db.Hosts.Add(host);
        try
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            await transaction.CommitAsync(cancel).ConfigureAwait(false);
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.AlreadyEnrolled, "A host with this key is enrolled already. Remove the agent's identity file on the new host, so that it makes a key of its own.");
        }
        estate.Add(host, group.Path);
        return new EnrolmentAnswer(host.Id, host.Label, group.Path);
    }

    private static ProblemException Refuse(TokenRefusal refusal) => new(403, ProblemTypes.TokenRefused, EnrolmentRules.Explain(refusal));

    private static EnrolmentTokenInfo ToInfo(EnrolmentTokenRow row, string path, DateTimeOffset now)
    {
        var state = new TokenTerms(row.ExpiresAt, row.MaxUses, row.Uses, row.RevokedAt).Check(now) switch
        {
            TokenRefusal.None => EnrolmentTokenState.Valid,
            TokenRefusal.Revoked => EnrolmentTokenState.Revoked,
            TokenRefusal.Expired => EnrolmentTokenState.Expired,
            _ => EnrolmentTokenState.UsedUp,
        };
        return new EnrolmentTokenInfo(row.Id, path, row.Note, state, row.CreatedAt, row.CreatedBy, row.ExpiresAt, row.MaxUses, row.Uses, row.RevokedAt);
    }
}
