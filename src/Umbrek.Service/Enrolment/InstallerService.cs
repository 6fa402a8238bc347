using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Enrolment;

/// <summary>Installers: made for one group, handed out as a link, a line or a package, and revoked.</summary>
public sealed class InstallerService(
    IDatabase database, GroupService groups, EnrolmentReader reader, AgentPrograms programs, ServiceKey key, AccessIndex access, Gate gate, AuditLog audit,
    IDataProtectionProvider protection, TimeProvider time)
{
    private static readonly TimeSpan DefaultLife = TimeSpan.FromDays(7);
    private readonly IDataProtector protector = protection.CreateProtector("installer");

    public async Task<InstallerDetail> CreateAsync(NewInstaller wish, Asker by, Uri service, CancellationToken cancel)
    {
        if (wish.MaxUses is < 1 or > 100_000)
        {
            throw ProblemException.Invalid("An installer is good for 1 to 100000 computers; leave the number out for no limit.");
        }
        if (wish.ExpiresInSeconds is < 60 or > 366L * 86400)
        {
            throw ProblemException.Invalid("An installer lives from a minute to a year.");
        }
        var note = string.IsNullOrWhiteSpace(wish.Note) ? null : Names.Clean(wish.Note, "note", out var problem) ?? throw ProblemException.Invalid(problem);
        var policy = (wish.Policy ?? HostPolicy.Everything).Normalise() ?? throw ProblemException.Invalid("The host policy names what is allowed and when a person is asked; see the API description.");
        if (string.IsNullOrWhiteSpace(wish.GroupPath))
        {
            throw ProblemException.Invalid("Say which group the computers will stand in.");
        }

        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var group = await groups.FindAsync(db, wish.GroupPath, by, cancel).ConfigureAwait(false);
        gate.Place(by, group.Path, Permission.Approve);
        var token = EnrolmentTokenText.Create(key.Sha256);
        var now = time.GetUtcNow();
        var row = new InstallerRow
        {
            Id = Guid.CreateVersion7(),
            GroupId = group.Id,
            Sha256 = token.SecretSha256(),
            ProtectedToken = protector.Protect(token.ToString()),
            Note = note,
            Policy = JsonSerializer.Serialize(policy, WireJson.Default.HostPolicy),
            AccessKey = wish.AccessKey,
            ApprovalNeeded = wish.ApprovalNeeded,
            CreatedAt = now,
            CreatedBy = by.Name,
            ExpiresAt = now + (wish.ExpiresInSeconds is { } life ? TimeSpan.FromSeconds(life) : DefaultLife),
            MaxUses = wish.MaxUses,
        };
        db.Installers.Add(row);
        await audit.AddAsync(db, by, "installer.create", group.Path, cancel, ("id", $"{row.Id}"), ("note", note), ("uses", $"{row.MaxUses}"), ("expires", $"{row.ExpiresAt:O}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return Describe(row, ToInfo(row, group.Path, 0, now), service, []);
    }

    /// <summary>Newest first, of the groups at which one lets computers in.</summary>
    public async Task<List<InstallerInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        var allowed = access.GroupsWith(by.Reach, Permission.Approve);
        await using var db = database.Open();
        var now = time.GetUtcNow();
        var rows = await db.Installers.AsNoTracking().Where(t => allowed == null || allowed.Contains(t.GroupId))
            .Join(db.Groups, t => t.GroupId, g => g.Id, (t, g) => new { Installer = t, g.Path, Waiting = db.Enrolments.Count(e => e.InstallerId == t.Id && e.State == EnrolmentState.Waiting) })
            .OrderByDescending(t => t.Installer.Id).Take(Paging.Most).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(r => ToInfo(r.Installer, r.Path, r.Waiting, now))];
    }

    /// <summary>One installer with what it is handed out as, and who used it.</summary>
    public async Task<InstallerDetail> GetAsync(Guid id, Asker by, Uri service, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Installers.AsNoTracking().FirstOrDefaultAsync(t => t.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("installer");
        var path = gate.Group(by, row.GroupId, Permission.Approve, "installer");
        var used = await reader.ListAsync(null, id, by.Reach, cancel).ConfigureAwait(false);
        return Describe(row, ToInfo(row, path, used.Count(e => e.State == EnrolmentState.Waiting), time.GetUtcNow()), service, used);
    }

    public async Task<InstallerInfo> RevokeAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.Installers.FirstOrDefaultAsync(t => t.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("installer");
        var path = gate.Group(by, row.GroupId, Permission.Approve, "installer");
        if (row.RevokedAt is null)
        {
            row.RevokedAt = time.GetUtcNow();
            await audit.AddAsync(db, by, "installer.revoke", path, cancel, ("id", $"{row.Id}"), ("uses", $"{row.Uses}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        var waiting = await db.Enrolments.CountAsync(e => e.InstallerId == id && e.State == EnrolmentState.Waiting, cancel).ConfigureAwait(false);
        return ToInfo(row, path, waiting, time.GetUtcNow());
    }

    /// <summary>The package of an installer, for a technician who hands it out.</summary>
    public async Task<byte[]> PackAsync(Guid id, Asker by, Uri service, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Installers.AsNoTracking().FirstOrDefaultAsync(t => t.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("installer");
        gate.Group(by, row.GroupId, Permission.Approve, "installer");
        return Pack(row, service);
    }

    /// <summary>The installer that a link's secret belongs to, whether it still lets anybody in or not.</summary>
    /// <exception cref="ProblemException">There is none.</exception>
    public async Task<(InstallerRow Row, string Path, TokenRefusal Refusal)> FindBySecretAsync(string secret, CancellationToken cancel)
    {
        var token = EnrolmentTokenText.Parse($"{secret}.{System.Buffers.Text.Base64Url.EncodeToString(key.Sha256)}");
        await using var db = database.Open();
        var sha256 = token?.SecretSha256();
        var row = sha256 is null ? null : await db.Installers.AsNoTracking().FirstOrDefaultAsync(t => t.Sha256 == sha256, cancel).ConfigureAwait(false);
        return row is null
            ? throw new ProblemException(404, ProblemTypes.TokenRefused, "This service does not know the link. Check that it was copied whole, or ask whoever sent it for a new one.")
            : (row, await PathAsync(db, row.GroupId, cancel).ConfigureAwait(false), Terms(row).Check(time.GetUtcNow()));
    }

    /// <summary>What the page of a link tells; nothing in it says more than the link itself gives.</summary>
    public async Task<InstallerOffer> OfferAsync(string secret, Uri service, CancellationToken cancel)
    {
        var (row, path, refusal) = await FindBySecretAsync(secret, cancel).ConfigureAwait(false);
        return new InstallerOffer(
            row.CreatedBy, GroupPath.Split(path)[0], path, row.Note, ReadPolicy(row.Policy), row.AccessKey, row.ApprovalNeeded, row.ExpiresAt,
            refusal == TokenRefusal.None ? null : EnrolmentRules.Explain(refusal),
            InstallScript.Command(service, key.Sha256, Secret(row)), programs.Current?.Version, programs.Current?.Size ?? 0, programs.Current?.Sha256 ?? "");
    }

    public async Task<byte[]> PackBySecretAsync(string secret, Uri service, CancellationToken cancel) =>
        Pack((await FindUsableAsync(secret, cancel).ConfigureAwait(false)).Row, service);

    public async Task<string> ScriptAsync(string secret, Uri service, CancellationToken cancel)
    {
        var (row, path) = await FindUsableAsync(secret, cancel).ConfigureAwait(false);
        return InstallScript.Text(service, key.Sha256, protector.Unprotect(row.ProtectedToken), path, row.AccessKey, programs.Needed());
    }

    /// <exception cref="ProblemException">403 with the reason when the installer lets nobody in any more.</exception>
    public async Task<(InstallerRow Row, string Path)> FindUsableAsync(string secret, CancellationToken cancel)
    {
        var (row, path, refusal) = await FindBySecretAsync(secret, cancel).ConfigureAwait(false);
        return refusal == TokenRefusal.None ? (row, path) : throw new ProblemException(403, ProblemTypes.TokenRefused, EnrolmentRules.Explain(refusal));
    }

    public static TokenTerms Terms(InstallerRow row) => new(row.ExpiresAt, row.MaxUses, row.Uses, row.RevokedAt);

    public static HostPolicy ReadPolicy(string json) => json.Length == 0 ? HostPolicy.Everything : JsonSerializer.Deserialize(json, WireJson.Default.HostPolicy)!;

    private byte[] Pack(InstallerRow row, Uri service) =>
        DebPackage.Build(programs.Needed(), new InstallerSettings(service, protector.Unprotect(row.ProtectedToken), row.AccessKey), row.CreatedAt);

    private InstallerDetail Describe(InstallerRow row, InstallerInfo info, Uri service, IReadOnlyList<EnrolmentInfo> used)
    {
        var token = protector.Unprotect(row.ProtectedToken);
        var secret = Secret(row);
        return new InstallerDetail(
            info, token, new Uri(ApiClient.Root(service), $"get/{secret}").AbsoluteUri, InstallScript.Command(service, key.Sha256, secret),
            $"umbrek-agent install --service {service.AbsoluteUri.TrimEnd('/')} --token {token}" + (row.AccessKey == AccessKeyRule.None ? "" : $" --access-key {InstallScript.Word(row.AccessKey)}"), used);
    }

    private string Secret(InstallerRow row) => protector.Unprotect(row.ProtectedToken).Split('.')[0];

    private static Task<string> PathAsync(UmbrekContext db, Guid groupId, CancellationToken cancel) =>
        db.Groups.Where(g => g.Id == groupId).Select(g => g.Path).FirstAsync(cancel);

    private static InstallerInfo ToInfo(InstallerRow row, string path, int waiting, DateTimeOffset now)
    {
        var state = Terms(row).Check(now) switch
        {
            TokenRefusal.None => InstallerState.Valid,
            TokenRefusal.Revoked => InstallerState.Revoked,
            TokenRefusal.Expired => InstallerState.Expired,
            _ => InstallerState.UsedUp,
        };
        return new InstallerInfo(
            row.Id, path, row.Note, state, ReadPolicy(row.Policy), row.AccessKey, row.ApprovalNeeded, row.CreatedAt, row.CreatedBy,
            row.ExpiresAt, row.MaxUses, row.Uses, waiting, row.RevokedAt);
    }
}
