using System.Text;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>
/// Scripts and runbooks that are kept, and both are called scripts here: a runbook is one in steps. A script is its owner's and theirs with whom he shares it; to everybody else it is not there, but for
/// those who administer everything. Versions are written once.
/// </summary>
public sealed class ScriptLibrary(IDatabase database, AccessIndex access, AuditLog audit, TimeProvider time)
{
    private const int Most = 2000;
    private const int MostVersions = 1000;
    private const int LongestText = 1000;

    public async Task<List<ScriptInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var look = await LookAsync(db, by, cancel).ConfigureAwait(false);
        var rows = (await db.Scripts.AsNoTracking().OrderBy(s => s.NameKey).ToListAsync(cancel).ConfigureAwait(false)).Where(look.MayUse).ToList();
        var newest = await db.Scripts.Join(db.ScriptVersions, s => new { Id = s.Id, Number = s.Latest }, v => new { Id = v.ScriptId, v.Number }, (s, v) => new { s.Id, v.Parameters, v.Steps }).ToDictionaryAsync(v => v.Id, v => (v.Parameters, v.Steps), cancel).ConfigureAwait(false);
        var uses = await db.Jobs.Where(j => j.ScriptId != null).GroupBy(j => j.ScriptId!.Value).Select(g => new { g.Key, Count = g.Count(), Last = g.Max(j => j.CreatedAt) }).ToDictionaryAsync(u => u.Key, u => (u.Count, (DateTimeOffset?)u.Last), cancel).ConfigureAwait(false);
        return rows.ConvertAll(r => ToInfo(r, newest[r.Id], look, uses.GetValueOrDefault(r.Id)));
    }

    /// <summary>A script with one of its versions, the newest unless a number is said.</summary>
    public async Task<ScriptDetail> GetAsync(Guid id, int? number, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await ReadAsync(db, id, number, by, cancel).ConfigureAwait(false);
    }

    public async Task<ScriptDetail> CreateAsync(NewScript wish, Asker by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var row = new ScriptRow { Id = Guid.CreateVersion7(now), OwnerId = by.Id, Owner = by.Name, Latest = 1, CreatedAt = now, ChangedAt = now, ChangedBy = by.Name, Version = 1 };
        Rename(row, wish.Name);
        row.Description = Line(wish.Description, "description");
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (await db.Scripts.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw ProblemException.Invalid($"{Most} scripts are kept already; remove some that nobody uses.");
        }
        row.Sharing = await ReadSharingAsync(db, wish.Sharing ?? [], cancel).ConfigureAwait(false);
        var version = ToVersion(row, new NewScriptVersion(wish.Command, wish.Parameters, wish.Note), by, now);
        db.Scripts.Add(row);
        db.ScriptVersions.Add(version);
        await StoreAsync(db, row, by, "script.create", cancel, ("version", "1"), ("sha256", Sha256(version))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return await GetAsync(row.Id, null, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Writes the next version.</summary>
    public async Task<ScriptDetail> AddVersionAsync(Guid id, NewScriptVersion wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, look) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        if (!look.MayChange(row))
        {
            throw Refuse(row, "change it; save a copy under another name, or ask to be let");
        }
        CheckVersion(row, version);
        if (row.Latest >= MostVersions)
        {
            throw ProblemException.Invalid($"'{row.Name}' has {MostVersions} versions, which is the most; save it under another name.");
        }
        var next = ToVersion(row, wish, by, time.GetUtcNow());
        var latest = await db.ScriptVersions.AsNoTracking().FirstAsync(v => v.ScriptId == id && v.Number == row.Latest, cancel).ConfigureAwait(false);
        if (next.Steps is null != latest.Steps is null)
        {
            throw ProblemException.Invalid($"'{row.Name}' is a {(latest.Steps is null ? "script" : "runbook")}; keep the {(next.Steps is null ? "script" : "runbook")} under a name of its own.");
        }
        if (next.Command == latest.Command && next.Parameters == latest.Parameters)
        {
            throw ProblemException.Invalid($"This is what version {row.Latest} of '{row.Name}' is already; nothing was changed.");
        }
        next.Number = ++row.Latest;
        Touch(row, by);
        db.ScriptVersions.Add(next);
        await StoreAsync(db, row, by, "script.version", cancel, ("version", $"{next.Number}"), ("note", next.Note), ("sha256", Sha256(next))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return await GetAsync(id, null, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Renames, describes, shares or hands over.</summary>
    public async Task<ScriptInfo> ChangeAsync(Guid id, ScriptChange wish, long version, Asker by, CancellationToken cancel)
    {
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var (row, look) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
            Govern(row, look);
            CheckVersion(row, version);
            var before = (row.Name, row.Owner, row.Sharing);
            if (wish.Name is { } name)
            {
                Rename(row, name);
            }
            if (wish.Description is { } description)
            {
                row.Description = Line(description, "description");
            }
            if (wish.Sharing is { } sharing)
            {
                row.Sharing = await ReadSharingAsync(db, sharing, cancel).ConfigureAwait(false);
            }
            if (wish.OwnerId is { } owner)
            {
                var seat = access.Find(owner) ?? throw ProblemException.NotFound("technician");
                (row.OwnerId, row.Owner) = (owner, seat.Name);
            }
            Touch(row, by);
            await StoreAsync(db, row, by, "script.change", cancel,
                ("was", before.Name == row.Name ? null : before.Name), ("owner", before.Owner == row.Owner ? null : row.Owner), ("sharing", before.Sharing == row.Sharing ? null : row.Sharing)).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        await using var after = database.Open();
        // Whoever gave it away may see it no more.
        var (changed, eyes) = await FindAsync(after, id, by, cancel, evenHidden: true).ConfigureAwait(false);
        var parameters = await NewestAsync(after, changed, cancel).ConfigureAwait(false);
        return ToInfo(changed, parameters, eyes, await UseAsync(after, id, cancel).ConfigureAwait(false));
    }

    /// <summary>Removes a script with its versions; jobs that were made of it keep what they ran.</summary>
    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, look) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Govern(row, look);
        db.Scripts.Remove(row);
        await audit.AddAsync(db, by, "script.remove", row.Name, cancel, ("id", $"{id}"), ("versions", $"{row.Latest}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
    }

    public async Task<ScriptComparison> CompareAsync(Guid id, int from, int? to, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var first = await ReadAsync(db, id, from, by, cancel).ConfigureAwait(false);
        var second = await ReadAsync(db, id, to, by, cancel).ConfigureAwait(false);
        return new ScriptComparison(
            first.Versions.First(v => v.Number == first.Shown.Number), second.Versions.First(v => v.Number == second.Shown.Number),
            Compare(string.Join('\n', ScriptText.Settings(first.Shown.Command, first.Shown.Parameters)), string.Join('\n', ScriptText.Settings(second.Shown.Command, second.Shown.Parameters))),
            Compare(ScriptText.Body(first.Shown.Command), ScriptText.Body(second.Shown.Command)));
    }

    /// <summary>A version of a runbook as a document.</summary>
    public async Task<RunbookDocument> DocumentAsync(Guid id, int? number, Asker by, CancellationToken cancel)
    {
        var detail = await GetAsync(id, number, by, cancel).ConfigureAwait(false);
        return detail.Shown.Command.Steps is null
            ? throw ProblemException.Invalid($"'{detail.Script.Name}' is a script and has no steps; its text is all there is to read.")
            : new RunbookDocument(detail.Script.Name, detail.Script.Description, detail.Shown.Parameters, detail.Shown.Command);
    }

    /// <summary>What is sent to the hosts for it.</summary>
    /// <exception cref="ProblemException">A value is missing or does not fit.</exception>
    public async Task<FilledScript> FillAsync(ScriptUse use, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var detail = await ReadAsync(db, use.Id, use.Number, by, cancel).ConfigureAwait(false);
        var values = ScriptParameters.Fill(detail.Shown.Parameters, use.Values ?? new Dictionary<string, string>(), out var problem) ?? throw ProblemException.Invalid(problem);
        return new FilledScript(new ScriptMark(use.Id, detail.Script.Name, detail.Shown.Number), ScriptText.Fill(detail.Shown.Command, values));
    }

    private async Task<ScriptDetail> ReadAsync(UmbrekContext db, Guid id, int? number, Asker by, CancellationToken cancel)
    {
        var (row, look) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        var versions = await db.ScriptVersions.AsNoTracking().Where(v => v.ScriptId == id).OrderByDescending(v => v.Number)
            .Select(v => new ScriptVersionMark(v.Number, v.Lines, v.Note, v.CreatedAt, v.CreatedBy, v.Steps)).ToListAsync(cancel).ConfigureAwait(false);
        var wanted = number ?? row.Latest;
        var shown = await db.ScriptVersions.AsNoTracking().FirstOrDefaultAsync(v => v.ScriptId == id && v.Number == wanted, cancel).ConfigureAwait(false)
            ?? throw new ProblemException(404, ProblemTypes.NotFound, $"'{row.Name}' has no version {wanted}; it has 1 to {row.Latest}.");
        var newest = wanted == row.Latest ? (shown.Parameters, shown.Steps) : await NewestAsync(db, row, cancel).ConfigureAwait(false);
        return new ScriptDetail(
            ToInfo(row, newest, look, await UseAsync(db, id, cancel).ConfigureAwait(false)),
            new ScriptVersion(shown.Number, JsonSerializer.Deserialize(shown.Command, WireJson.Default.CommandSpec)!, JsonSerializer.Deserialize(shown.Parameters, WireJson.Default.ListScriptParameter)!, shown.Note, shown.CreatedAt, shown.CreatedBy),
            versions);
    }

    /// <summary>What a list tells of the newest version.</summary>
    private static async Task<(string Parameters, int? Steps)> NewestAsync(UmbrekContext db, ScriptRow row, CancellationToken cancel)
    {
        var version = await db.ScriptVersions.Where(v => v.ScriptId == row.Id && v.Number == row.Latest).Select(v => new { v.Parameters, v.Steps }).FirstAsync(cancel).ConfigureAwait(false);
        return (version.Parameters, version.Steps);
    }

    private static async Task<(int, DateTimeOffset?)> UseAsync(UmbrekContext db, Guid id, CancellationToken cancel)
    {
        var jobs = db.Jobs.Where(j => j.ScriptId == id);
        return (await jobs.CountAsync(cancel).ConfigureAwait(false), await jobs.MaxAsync(j => (DateTimeOffset?)j.CreatedAt, cancel).ConfigureAwait(false));
    }

    /// <exception cref="ProblemException">404: there is none, or none that is shared with him.</exception>
    private static async Task<(ScriptRow Row, Look Look)> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel, bool evenHidden = false)
    {
        var look = await LookAsync(db, by, cancel).ConfigureAwait(false);
        return await db.Scripts.FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false) is { } row && (evenHidden || look.MayUse(row)) ? (row, look) : throw ProblemException.NotFound("script");
    }

    private static async Task<Look> LookAsync(UmbrekContext db, Asker by, CancellationToken cancel) => new(
        by,
        [.. await db.TeamMembers.Where(m => m.TechnicianId == by.Id).Select(m => m.TeamId).ToListAsync(cancel).ConfigureAwait(false)],
        await db.Teams.AsNoTracking().ToDictionaryAsync(t => t.Id, t => t.Name, cancel).ConfigureAwait(false));

    /// <summary>Whose eyes look at it.</summary>
    private sealed record Look(Asker By, HashSet<Guid> Teams, Dictionary<Guid, string> TeamNames)
    {
        public bool MayGovern(ScriptRow row) => row.OwnerId == By.Id || By.Reach.Everywhere.Contains(Permission.Administer);

        public bool MayUse(ScriptRow row) => MayGovern(row) || Mine(row).Any();

        public bool MayChange(ScriptRow row) => MayGovern(row) || Mine(row).Any(s => s.MayChange);

        private IEnumerable<ScriptShare> Mine(ScriptRow row) => ReadSharing(row).Where(s => s.TeamId is not { } team || Teams.Contains(team));
    }

    private ScriptInfo ToInfo(ScriptRow row, (string Parameters, int? Steps) newest, Look look, (int Count, DateTimeOffset? Last) use) => new(
        row.Id, row.Name, row.Description, access.Find(row.OwnerId)?.Id, access.Find(row.OwnerId)?.Name ?? row.Owner,
        [.. ReadSharing(row).Where(s => s.TeamId is not { } team || look.TeamNames.ContainsKey(team)).Select(s => s with { Team = s.TeamId is { } team ? look.TeamNames[team] : null })],
        row.Latest, JsonSerializer.Deserialize(newest.Parameters, WireJson.Default.ListScriptParameter)!, row.CreatedAt, row.ChangedAt, row.ChangedBy, look.MayChange(row), look.MayGovern(row), use.Count, use.Last, row.Version, newest.Steps);

    private static List<ScriptShare> ReadSharing(ScriptRow row) => JsonSerializer.Deserialize(row.Sharing, WireJson.Default.ListScriptShare)!;

    private static async Task<string> ReadSharingAsync(UmbrekContext db, IReadOnlyList<ScriptShare> sharing, CancellationToken cancel)
    {
        var kept = new Dictionary<Guid, ScriptShare>();
        foreach (var share in sharing)
        {
            if (share is null)
            {
                throw ProblemException.Invalid("A share is empty; name a team, or leave its id out for everybody.");
            }
            if (share.TeamId is { } team && !await db.Teams.AnyAsync(t => t.Id == team, cancel).ConfigureAwait(false))
            {
                throw ProblemException.NotFound("team");
            }
            kept[share.TeamId ?? default] = new ScriptShare(share.TeamId, null, share.MayChange);
        }
        return JsonSerializer.Serialize([.. kept.Values], WireJson.Default.ListScriptShare);
    }

    private static ScriptVersionRow ToVersion(ScriptRow row, NewScriptVersion wish, Asker by, DateTimeOffset now)
    {
        if (wish.Command is null)
        {
            throw ProblemException.Invalid("The script has no text; give it as the command's script.");
        }
        if (wish.Command.Action is not null)
        {
            throw ProblemException.Invalid("What the agent does itself is no script; run it as a job of its own.");
        }
        // Asked before it becomes a script, so that an empty line is called one.
        if (wish.Command.Check() is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        var command = ScriptText.Of(wish.Command);
        var parameters = (wish.Parameters ?? []).Select(p => p is null ? p! : p with { Name = p.Name?.Trim() ?? "", Description = string.IsNullOrWhiteSpace(p.Description) ? null : p.Description.Trim() }).ToList();
        if (command.Check() is { } stillWrong)
        {
            throw ProblemException.Invalid(stillWrong);
        }
        if (ScriptParameters.Check(parameters) is { } wrong)
        {
            throw ProblemException.Invalid(wrong);
        }
        if (parameters.Find(p => command.Environment?.ContainsKey(p.Name) == true) is { } twice)
        {
            throw ProblemException.Invalid($"{twice.Name} is a parameter and a variable that always has the same value; leave out one of them.");
        }
        if (command.Steps is { } steps && RunbookSteps.CheckParameters(steps, [.. parameters.Select(p => p.Name), .. command.Environment?.Keys ?? []]) is { } unknown)
        {
            throw ProblemException.Invalid(unknown);
        }
        return new ScriptVersionRow
        {
            ScriptId = row.Id,
            Number = 1,
            Command = JsonSerializer.Serialize(command, WireJson.Default.CommandSpec),
            Parameters = JsonSerializer.Serialize(parameters, WireJson.Default.ListScriptParameter),
            Lines = (command.Steps?.Select(s => s.Text) ?? [command.Script!]).Sum(t => t.TrimEnd('\n').Split('\n').Length),
            Steps = command.Steps?.Count,
            Note = Line(wish.Note, "note"),
            CreatedAt = now,
            CreatedBy = by.Name,
        };
    }

    private static List<AnswerLine> Compare(string first, string second) =>
        AnswerDifference.Compare(Encoding.UTF8.GetBytes(first), [], Encoding.UTF8.GetBytes(second), [], AnswerMask.None);

    private static string Sha256(ScriptVersionRow version) =>
        Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(Encoding.UTF8.GetBytes(ScriptText.Body(JsonSerializer.Deserialize(version.Command, WireJson.Default.CommandSpec)!))));

    private static void Rename(ScriptRow row, string? name)
    {
        row.Name = Names.Clean(name, "script's name", out var problem) ?? throw ProblemException.Invalid(problem);
        if (row.Name.Contains('@', StringComparison.Ordinal))
        {
            throw ProblemException.Invalid("A script's name has no @ in it; behind one stands the version.");
        }
        row.NameKey = Wildcard.Fold(row.Name);
    }

    private static string? Line(string? text, string what) =>
        string.IsNullOrWhiteSpace(text) ? null : text.Trim() is { Length: <= LongestText } line ? line : throw ProblemException.Invalid($"The {what} has more than {LongestText} characters.");

    private static void Govern(ScriptRow row, Look look)
    {
        if (!look.MayGovern(row))
        {
            throw Refuse(row, "rename, share, hand over or remove it");
        }
    }

    private static ProblemException Refuse(ScriptRow row, string what) => new(403, ProblemTypes.NotAllowed, $"'{row.Name}' is {row.Owner}'s, and you may not {what}. Ask {row.Owner}, or somebody who administers everything.");

    private static void CheckVersion(ScriptRow row, long version)
    {
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
    }

    private void Touch(ScriptRow row, Asker by) => (row.Version, row.ChangedAt, row.ChangedBy) = (row.Version + 1, time.GetUtcNow(), by.Name);

    private async Task StoreAsync(UmbrekContext db, ScriptRow row, Asker by, string action, CancellationToken cancel, params (string, string?)[] detail)
    {
        try
        {
            await audit.AddAsync(db, by, action, row.Name, cancel, [("id", $"{row.Id}"), .. detail]).ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            CheckVersion(row, -1);
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"A script or a runbook '{row.Name}' is kept already, perhaps one that is not shared with you. Choose another name.");
        }
    }
}
