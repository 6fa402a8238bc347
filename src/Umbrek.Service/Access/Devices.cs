using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;
using Microsoft.EntityFrameworkCore;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;

namespace Umbrek.Service.Access;

/// <summary>
/// Devices that technicians have signed in from, known by a random key that each keeps. A new one is shown to its owner until he says
/// that it is his; and it is asked for the second factor, also when he has others remembered.
/// </summary>
public sealed class Devices(IDatabase database, SignIns signIns, AuditLog audit, TimeProvider time)
{
    private static string CookieOf(HttpContext http) => http.Request.IsHttps ? "__Host-umbrek-device" : "umbrek-device";

    /// <summary>How long a device is not asked for the second factor again, when its owner wants that.</summary>
    public static readonly TimeSpan Remembered = TimeSpan.FromDays(30);
    private static readonly TimeSpan CookieLife = TimeSpan.FromDays(400);
    private const int Most = 100;
    private const int KeyBytes = 32;
    private const int MostText = 100;

    /// <summary>The device's key as it shows it; null for one that shows none.</summary>
    public static byte[]? Shown(HttpContext http, string? deviceKey) =>
        (deviceKey ?? http.Request.Cookies[CookieOf(http)]) is { Length: > 0 and <= MostText } text ? SHA256.HashData(Encoding.UTF8.GetBytes(text)) : null;

    /// <summary>Whether the second factor need not be asked for.</summary>
    public async Task<bool> IsRememberedAsync(Guid technicianId, HttpContext http, string? deviceKey, CancellationToken cancel)
    {
        if (Shown(http, deviceKey) is not { } sha256)
        {
            return false;
        }
        var now = time.GetUtcNow();
        await using var db = database.Open();
        return await db.Devices.AnyAsync(d => d.TechnicianId == technicianId && d.Sha256 == sha256 && d.FactorUntil > now, cancel).ConfigureAwait(false);
    }

    /// <summary>The device of a sign-in, inside its transaction. A browser without a key is given one.</summary>
    /// <param name="makesKey">Whether it is a browser, which keeps a cookie.</param>
    public async Task<DeviceRow> MeetAsync(UmbrekContext db, Guid technicianId, HttpContext http, string? deviceKey, bool makesKey, string words, bool remember, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var sha256 = Shown(http, deviceKey);
        if (sha256 is null)
        {
            // What keeps no key is another device each time.
            var key = Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(KeyBytes));
            sha256 = SHA256.HashData(Encoding.UTF8.GetBytes(key));
            if (makesKey)
            {
                // Lax: the way back from single sign-on comes from another site. The key alone opens nothing.
                http.Response.Cookies.Append(CookieOf(http), key, new CookieOptions { HttpOnly = true, SameSite = SameSiteMode.Lax, Secure = http.Request.IsHttps, MaxAge = CookieLife, IsEssential = true, Path = "/" });
            }
        }
        var row = await db.Devices.FirstOrDefaultAsync(d => d.TechnicianId == technicianId && d.Sha256 == sha256, cancel).ConfigureAwait(false);
        if (row is null)
        {
            // What keeps no key leaves one each time: the oldest go.
            var old = await db.Devices.Where(d => d.TechnicianId == technicianId).OrderByDescending(d => d.LastSeenAt).Skip(Most - 1).Select(d => d.Id).ToListAsync(cancel).ConfigureAwait(false);
            await db.Devices.Where(d => old.Contains(d.Id)).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            var first = !await db.Devices.AnyAsync(d => d.TechnicianId == technicianId, cancel).ConfigureAwait(false);
            db.Devices.Add(row = new DeviceRow { Id = Guid.CreateVersion7(now), TechnicianId = technicianId, Sha256 = sha256, FirstSeenAt = now, Confirmed = first });
        }
        (row.Device, row.Address, row.LastSeenAt) = (words, http.Address(), now);
        if (remember)
        {
            row.FactorUntil = now + Remembered;
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        return row;
    }

    /// <summary>The technician's own, last used first.</summary>
    public async Task<List<DeviceInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var here = await HereAsync(db, by, cancel).ConfigureAwait(false);
        var now = time.GetUtcNow();
        var rows = await db.Devices.AsNoTracking().Where(d => d.TechnicianId == by.Id).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.OrderByDescending(d => d.LastSeenAt).Select(d => new DeviceInfo(d.Id, d.Device, d.Address, d.FirstSeenAt, d.LastSeenAt, !d.Confirmed, d.FactorUntil > now ? d.FactorUntil : null, d.Id == here))];
    }

    /// <summary>Its owner says that it is his; not on itself, where a stranger would say so too.</summary>
    public async Task ConfirmAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        if (await HereAsync(db, by, cancel).ConfigureAwait(false) == id)
        {
            throw new ProblemException(409, Wire.Api.ProblemTypes.Conflict, "Say this on another device that you have signed in from: on itself anybody could.");
        }
        row.Confirmed = true;
        await audit.AddAsync(db, by, "device.confirm", by.Name, cancel, ("device", row.Device), ("id", $"{id}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
    }

    /// <summary>Forgets a device and ends what is signed in on it.</summary>
    public async Task ForgetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        var ended = await db.SignIns.Where(s => s.DeviceId == id).Select(s => s.Id).ToListAsync(cancel).ConfigureAwait(false);
        await db.SignIns.Where(s => s.DeviceId == id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        db.Devices.Remove(row);
        await audit.AddAsync(db, by, "device.forget", by.Name, cancel, ("device", row.Device), ("id", $"{id}"), ("ended", $"{ended.Count}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        signIns.Cut(ended);
    }

    /// <summary>From now on every device is asked again, inside the caller's transaction.</summary>
    public static Task AskAgainAsync(UmbrekContext db, Guid technicianId, CancellationToken cancel) =>
        db.Devices.Where(d => d.TechnicianId == technicianId).ExecuteUpdateAsync(d => d.SetProperty(r => r.FactorUntil, (DateTimeOffset?)null), cancel);

    private static Task<Guid?> HereAsync(UmbrekContext db, Asker by, CancellationToken cancel) => db.SignIns.Where(s => s.Id == by.SignInId).Select(s => s.DeviceId).FirstOrDefaultAsync(cancel);

    private static async Task<DeviceRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Devices.FirstOrDefaultAsync(d => d.Id == id && d.TechnicianId == by.Id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("device");
}
