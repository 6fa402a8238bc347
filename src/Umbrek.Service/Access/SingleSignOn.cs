using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.OpenIdConnect;
using Microsoft.AspNetCore.Identity;
using Microsoft.IdentityModel.Protocols.OpenIdConnect;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;

namespace Umbrek.Service.Access;

/// <summary>The provider that technicians may sign in with (OpenID Connect Core 1.0, code flow with PKCE).</summary>
/// <param name="Name">For the button: "Sign in with NAME".</param>
/// <param name="SecretFile">Where the client's secret stands; it is on no command line.</param>
public sealed record SingleSignOnProvider(string Name, Uri Authority, string ClientId, string SecretFile);

/// <summary>
/// Signing in with a provider. Who somebody is there is linked to a technician by themselves, with their password: a name that a provider tells opens
/// nobody's account.
/// </summary>
public static class SingleSignOn
{
    public const string Scheme = "sso";
    private const string LinkTo = "link-to";
    public const string BeginPath = "/sso/begin";
    private const string ReturnPath = "/sso/return";
    private const int LongestWayBack = 500;

    public static void Add(AuthenticationBuilder builder, SingleSignOnProvider provider) => builder.AddOpenIdConnect(Scheme, o =>
    {
        o.Authority = provider.Authority.AbsoluteUri;
        o.RequireHttpsMetadata = !provider.Authority.IsLoopback;
        o.ClientId = provider.ClientId;
        o.ClientSecret = File.ReadAllText(provider.SecretFile).Trim();
        o.ResponseType = OpenIdConnectResponseType.Code;
        // As a query, so that the cookies of this exchange need not be open to other sites' posts.
        o.ResponseMode = OpenIdConnectResponseMode.Query;
        o.UsePkce = true;
        o.MapInboundClaims = false;
        o.SaveTokens = false;
        o.CallbackPath = ReturnPath;
        o.CorrelationCookie.SameSite = SameSiteMode.Lax;
        o.CorrelationCookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
        o.NonceCookie.SameSite = SameSiteMode.Lax;
        o.NonceCookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
        o.SignInScheme = IdentityConstants.ApplicationScheme;
        o.Scope.Clear();
        o.Scope.Add("openid");
        o.Scope.Add("profile");
        o.Events.OnTicketReceived = ReceivedAsync;
        o.Events.OnRemoteFailure = context =>
        {
            context.HandleResponse();
            context.HttpContext.RequestServices.GetRequiredService<ILoggerFactory>().CreateLogger(typeof(SingleSignOn)).Refused(context.Failure?.Message ?? "");
            return BackAsync(context.HttpContext, "failed");
        };
    });

    public static void Map(IEndpointRouteBuilder app, SingleSignOnProvider? provider)
    {
        if (provider is null)
        {
            return;
        }
        RequestDelegate begin = async http =>
        {
            var how = new AuthenticationProperties { RedirectUri = Local(http.Request.Query["to"]) };
            if ($"{http.Request.Query["link"]}" is { Length: > 0 } ticket)
            {
                var by = await Asker.BindAsync(http).ConfigureAwait(false);
                if (by.IsScript || !http.RequestServices.GetRequiredService<LinkTickets>().Take(ticket, by))
                {
                    await BackAsync(http, "link-over").ConfigureAwait(false);
                    return;
                }
                // Whose account it is to be linked to goes along under the service's seal: on the way back the cookie does not come.
                how.Items[LinkTo] = $"{by.Id}";
            }
            try
            {
                await http.ChallengeAsync(Scheme, how).ConfigureAwait(false);
            }
            catch (Exception e) when (e is InvalidOperationException or IOException or HttpRequestException)
            {
                await BackAsync(http, "unreachable").ConfigureAwait(false);
            }
        };
        app.MapGet(BeginPath, begin).AllowAnonymous().ExcludeFromDescription();
    }

    private static async Task ReceivedAsync(TicketReceivedContext context)
    {
        context.HandleResponse();
        var http = context.HttpContext;
        var services = http.RequestServices;
        var technicians = services.GetRequiredService<UserManager<Technician>>();
        var audit = services.GetRequiredService<AuditLog>();
        // The token's issuer stands on each of its claims.
        var (issuer, subject) = context.Principal!.FindFirst("sub") is { } sub ? (sub.Issuer, sub.Value) : ("", "");
        var said = context.Principal!.FindFirstValue("preferred_username") ?? context.Principal!.FindFirstValue("name") ?? subject;
        if (issuer.Length == 0 || subject.Length == 0)
        {
            await BackAsync(http, "failed").ConfigureAwait(false);
            return;
        }
        var known = await technicians.FindByLoginAsync(issuer, subject).ConfigureAwait(false);
        if (context.Properties!.Items.TryGetValue(LinkTo, out var link) && link is not null)
        {
            if (known is not null || await technicians.FindByIdAsync(link).ConfigureAwait(false) is not { } technician)
            {
                await BackAsync(http, known?.Id.ToString() == link ? "linked" : "linked-elsewhere").ConfigureAwait(false);
                return;
            }
            await technicians.AddLoginAsync(technician, new UserLoginInfo(issuer, subject, said)).ConfigureAwait(false);
            await audit.AddAsync(new Caller(technician.UserName ?? "", http.Address()), "single-sign-on.link", technician.UserName ?? "", http.RequestAborted, ("as", said)).ConfigureAwait(false);
            await BackAsync(http, "linked").ConfigureAwait(false);
            return;
        }
        if (known is null)
        {
            await audit.AddAsync(SignInService.Nobody(http.Address()), "sign-in.refuse", "single sign-on", http.RequestAborted, ("why", "not linked to a technician")).ConfigureAwait(false);
            await BackAsync(http, "unknown").ConfigureAwait(false);
            return;
        }
        var signIn = services.GetRequiredService<SignInService>();
        await signIn.OpenAsync(known, new SignInRequest(known.UserName ?? "", "", SignInUse.Cookie), http, "single sign-on", http.RequestAborted).ConfigureAwait(false);
        http.Response.Redirect(Local(context.ReturnUri));
    }

    /// <summary>A page of the console, and nothing that leads elsewhere or that a header can't hold (RFC 9110, 10.2.2).</summary>
    private static string Local(string? to) => to is ['/', ..] && to is not ['/', '/' or '\\', ..] && to.Length <= LongestWayBack && to.All(c => c is > ' ' and <= '~') ? to : "/";

    /// <summary>Back to the console, which says in words what came of it.</summary>
    private static Task BackAsync(HttpContext http, string outcome)
    {
        http.Response.Redirect(outcome is "linked" or "linked-elsewhere" or "link-over" ? $"/account?sso={outcome}" : $"/?sso={outcome}");
        return Task.CompletedTask;
    }
}

internal static partial class SingleSignOnLog
{
    [LoggerMessage(Level = LogLevel.Warning, Message = "Single sign-on failed: {Problem}")]
    public static partial void Refused(this ILogger logger, string problem);
}
