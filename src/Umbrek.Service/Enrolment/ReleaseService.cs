using System.Security.Cryptography;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Enrolment;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Enrolment;

/// <summary>The agent programs that hosts can be updated to: the one that came with the service, and those that were added. All signed.</summary>
public sealed class ReleaseService(IDatabase database, EstateIndex estate, AgentPrograms programs, ReleaseKey key, ServiceOptions options, AuditLog audit, TimeProvider time)
{
    public const string System = "linux-x64";
    private string Directory => options.PathOf("releases");

    /// <summary>Makes the program that came with the service one of the releases.</summary>
    public async Task RegisterOwnAsync(CancellationToken cancel)
    {
        if (programs.Current is not { } own)
        {
            return;
        }
        await using var db = database.Open();
        var row = await db.Releases.FirstOrDefaultAsync(r => r.Version == own.Version && r.System == System, cancel).ConfigureAwait(false);
        if (row?.Sha256 == own.Sha256)
        {
            return;
        }
        if (row is null)
        {
            db.Releases.Add(row = new ReleaseRow { Id = Guid.CreateVersion7(), Version = own.Version, System = System, AddedBy = "came with the service" });
        }
        row.AddedAt = time.GetUtcNow();
        row.Size = own.Size;
        row.Sha256 = own.Sha256;
        row.Signature = key.Sign(ToManifest(row).Statement());
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    public async Task<List<ReleaseInfo>> ListAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Releases.AsNoTracking().OrderByDescending(r => r.AddedAt).ToListAsync(cancel).ConfigureAwait(false);
        var used = estate.All.Where(h => h.RetiredAt is null).CountBy(h => h.AgentVersion).ToDictionary(c => c.Key, c => c.Value);
        return [.. rows.Select((r, i) => new ReleaseInfo(r.Version, r.System, r.Size, r.Sha256, r.AddedAt, r.AddedBy, i == 0, used.GetValueOrDefault(r.Version)))];
    }

    /// <summary>Takes a program, signs it, and keeps it under its hash.</summary>
    public async Task<ReleaseInfo> AddAsync(string version, Stream content, Asker by, CancellationToken cancel)
    {
        if (ReleaseManifest.CheckVersion(version) is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        global::System.IO.Directory.CreateDirectory(Directory);
        var incoming = Path.Combine(Directory, $"{Guid.NewGuid():N}.new");
        try
        {
            var (size, sha256) = await ReceiveAsync(content, incoming, cancel).ConfigureAwait(false);
            if (size == 0)
            {
                throw ProblemException.Invalid("The program is empty; send the agent's file as the body.");
            }
            await using var db = database.Open();
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            if (await db.Releases.AnyAsync(r => r.Version == version && r.System == System, cancel).ConfigureAwait(false))
            {
                throw new ProblemException(409, ProblemTypes.Conflict, $"There is a version {version} already. A version never changes: give the new program another one.");
            }
            var row = new ReleaseRow { Id = Guid.CreateVersion7(), Version = version, System = System, Size = size, Sha256 = sha256, AddedAt = time.GetUtcNow(), AddedBy = by.Name };
            row.Signature = key.Sign(ToManifest(row).Statement());
            db.Releases.Add(row);
            await audit.AddAsync(db, by, "release.add", version, cancel, ("sha256", sha256), ("bytes", $"{size}")).ConfigureAwait(false);
            File.Move(incoming, Path.Combine(Directory, sha256), overwrite: true);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            return new ReleaseInfo(row.Version, row.System, row.Size, row.Sha256, row.AddedAt, row.AddedBy, true, 0);
        }
        finally
        {
            File.Delete(incoming);
        }
    }

    /// <summary>The file of a release that some host is told to fetch.</summary>
    /// <exception cref="ProblemException">There is none.</exception>
    public string FileOf(string sha256)
    {
        if (sha256.Length == 64 && sha256.All(char.IsAsciiHexDigitLower))
        {
            if (programs.Current is { } own && own.Sha256 == sha256)
            {
                return own.File;
            }
            var kept = Path.GetFullPath(Path.Combine(Directory, sha256));
            if (File.Exists(kept))
            {
                return kept;
            }
        }
        throw ProblemException.NotFound("release");
    }

    public static ReleaseManifest ToManifest(ReleaseRow row) => new(row.Version, row.System, row.Size, row.Sha256);

    private static async Task<(long Size, string Sha256)> ReceiveAsync(Stream content, string file, CancellationToken cancel)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        await using var to = new FileStream(file, FileMode.CreateNew, FileAccess.Write);
        var buffer = new byte[128 * 1024];
        long size = 0;
        int got;
        while ((got = await content.ReadAsync(buffer, cancel).ConfigureAwait(false)) > 0)
        {
            size += got;
            if (size > ReleaseManifest.MaxSize)
            {
                throw ProblemException.Invalid($"The program is larger than {ReleaseManifest.MaxSize >> 20} MiB, the most there is for an agent.");
            }
            hash.AppendData(buffer, 0, got);
            await to.WriteAsync(buffer.AsMemory(0, got), cancel).ConfigureAwait(false);
        }
        to.Flush(flushToDisk: true);
        return (size, Convert.ToHexStringLower(hash.GetHashAndReset()));
    }
}
