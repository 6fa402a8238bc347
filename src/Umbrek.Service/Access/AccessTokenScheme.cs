using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Authentication;
using Microsoft.Extensions.Options;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Bearer tokens (RFC 6750) of clients and scripts: random, kept as hashes, ended by deleting them.</summary>
public sealed class AccessTokenScheme(IOptionsMonitor<AuthenticationSchemeOptions> options, ILoggerFactory logger, UrlEncoder encoder, SignIns signIns, AccessIndex access)
    : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
{
    public const string Name = "Bearer";
    private const string Prefix = "Bearer ";

    /// <summary>Says in words what the status says.</summary>
    protected override Task HandleChallengeAsync(AuthenticationProperties properties)
    {
        Response.Headers.WWWAuthenticate = Name;
        return ProblemWriter.WriteAsync(Context, new ProblemException(401, ProblemTypes.NotSignedIn, "You are not signed in, or your sign-in has ended. Sign in and try again.").Problem, Context.RequestAborted);
    }

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
        if (await signIns.FindAsync(sha256, Context.RequestAborted).ConfigureAwait(false) is not { } row || access.Find(row.TechnicianId) is not { } seat)
        {
            return AuthenticateResult.Fail("unknown or expired");
        }
        // A line that was opened with it closes when it expires.
        var until = new AuthenticationProperties { ExpiresUtc = row.ExpiresAt };
        return AuthenticateResult.Success(new AuthenticationTicket(new ClaimsPrincipal(SignIns.Identify(row, seat.Name, Name)), until, Name));
    }
}
