using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Authentication;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Access;

/// <summary>Bearer tokens (RFC 6750) of the client: random, kept as hashes, ended by deleting them.</summary>
public sealed class AccessTokenScheme(IOptionsMonitor<AuthenticationSchemeOptions> options, ILoggerFactory logger, UrlEncoder encoder, IDatabase database, TimeProvider time)
    : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
{
    public const string Name = "Bearer";
    public const string TokenIdClaim = "umbrek-token";
    private const string Prefix = "Bearer ";

    protected override async Task<AuthenticateResult> HandleAuthenticateAsync()
    {
        var header = Request.Headers.Authorization.ToString();
        if (!header.StartsWith(Prefix, StringComparison.OrdinalIgnoreCase))
        {
            return AuthenticateResult.NoResult();
        }
        byte[] sha256;
        try
        {
            sha256 = SHA256.HashData(Base64Url.DecodeFromChars(header.AsSpan(Prefix.Length).Trim()));
        }
        catch (FormatException)
        {
            return AuthenticateResult.Fail("malformed");
        }
        var now = time.GetUtcNow();
        await using var db = database.Open();
        var found = await db.AccessTokens.AsNoTracking().Where(t => t.Sha256 == sha256 && t.ExpiresAt > now)
            .Join(db.Users, t => t.TechnicianId, u => u.Id, (t, u) => new { TokenId = t.Id, u.Id, u.UserName })
            .FirstOrDefaultAsync(Context.RequestAborted).ConfigureAwait(false);
        if (found is null)
        {
            return AuthenticateResult.Fail("unknown or expired");
        }
        var identity = new ClaimsIdentity(
            [
                new Claim(ClaimTypes.NameIdentifier, found.Id.ToString()),
                new Claim(ClaimTypes.Name, found.UserName ?? ""),
                new Claim(TokenIdClaim, found.TokenId.ToString()),
            ],
            Name);
        return AuthenticateResult.Success(new AuthenticationTicket(new ClaimsPrincipal(identity), Name));
    }
}
