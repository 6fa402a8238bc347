using Microsoft.AspNetCore.Http.HttpResults;
using Umbrek.Core.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Access;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Access;

public static class AccessEndpoints
{
    public static void MapAccess(this IEndpointRouteBuilder api)
    {
        MapSignIn(api.MapGroup("").WithTags("Access"));
        MapTechnicians(api.MapGroup("/technicians").WithTags("Access"));
        MapRoles(api.MapGroup("/roles").WithTags("Access"));
        MapTeams(api.MapGroup("/teams").WithTags("Access"));
        MapGrants(api.MapGroup("/grants").WithTags("Access"));
        MapReading(api.MapGroup("").WithTags("Access"));
        MapOwn(api.MapGroup("/me").WithTags("Access"));
        MapSettings(api.MapGroup("/settings").WithTags("Access"));
    }

    private static void MapSignIn(RouteGroupBuilder access)
    {
        access.MapGet("/set-up", async (TechnicianService service, CancellationToken cancel) => TypedResults.Ok(await service.SetUpStateAsync(cancel).ConfigureAwait(false)))
            .AllowAnonymous().WithName("getSetUp").WithSummary("Whether the first technician is still to be made.");
        access.MapPost("/set-up", (TechnicianService service, FailureLimiter limiter, HttpContext http, SetUpRequest request, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.SetUpAsync(request, http.Address(), cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("setUp").WithSummary("Makes the first technician with the code from the service's terminal.");
        access.MapPost("/sign-in", (SignInService service, FailureLimiter limiter, HttpContext http, SignInRequest request, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.SignInAsync(request, http, cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("signIn").WithSummary("Signs in, for a cookie or for a bearer token.");
        access.MapGet("/sign-in/ways", (ServiceOptions options) => TypedResults.Ok(new SignInWays(options.SingleSignOn?.Name)))
            .AllowAnonymous().WithName("getSignInWays").WithSummary("Which ways of signing in there are besides the password.");
        access.MapPost("/sign-in/passkey/begin", (PasskeyService service, FailureLimiter limiter, HttpContext http) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.BeginSignInAsync(http).ConfigureAwait(false))))
            .AllowAnonymous().WithName("beginPasskeySignIn").WithSummary("Begins signing in with a passkey (WebAuthn).");
        access.MapPost("/sign-in/passkey", (PasskeyService service, FailureLimiter limiter, HttpContext http, PasskeyProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.SignInAsync(proof, http, cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("signInWithPasskey").WithSummary("Signs in with a passkey, for a cookie.");
        access.MapPost("/sign-in/pairings", (PairingService service, FailureLimiter limiter, HttpContext http, NewPairing wish) =>
            limiter.GuardAsync(http, () => Task.FromResult(TypedResults.Ok(service.Begin(wish, http)))))
            .AllowAnonymous().WithName("beginPairing").WithSummary("Begins signing a client in by its technician's browser: the client shows the code, and asks what became of it (after RFC 8628).");
        access.MapPost("/sign-in/pairings/claim", (PairingService service, FailureLimiter limiter, HttpContext http, PairingClaim claim, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.ClaimAsync(claim, http, cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("claimPairing").WithSummary("What became of a client that waits to be let in; with its bearer token when it was, once.");
        access.MapGet("/sign-in/pairings/{code}", (PairingService service, FailureLimiter limiter, HttpContext http, string code) =>
            limiter.GuardAsync(http, () => Task.FromResult(TypedResults.Ok(service.Get(code)))))
            .Own().WithName("getPairing").WithSummary("A client that waits to be let in.");
        access.MapPost("/sign-in/pairings/{code}/allow", (PairingService service, FailureLimiter limiter, HttpContext http, Asker by, string code, CancellationToken cancel) =>
            limiter.GuardAsync(http, () => DecideAsync(service, code, allowed: true, by, cancel)))
            .InPerson().WithName("allowPairing").WithSummary("Lets a client in as oneself.");
        access.MapPost("/sign-in/pairings/{code}/refuse", (PairingService service, FailureLimiter limiter, HttpContext http, Asker by, string code, CancellationToken cancel) =>
            limiter.GuardAsync(http, () => DecideAsync(service, code, allowed: false, by, cancel)))
            .InPerson().WithName("refusePairing").WithSummary("Refuses a client that waits.");
        access.MapPost("/sign-out", async Task<NoContent> (SignInService service, HttpContext http, Asker by, CancellationToken cancel) =>
        {
            await service.SignOutAsync(http, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Own().WithName("signOut").WithSummary("Ends the caller's own sign-in.");
    }

    private static async Task<NoContent> DecideAsync(PairingService service, string code, bool allowed, Asker by, CancellationToken cancel)
    {
        await service.DecideAsync(code, allowed, by, cancel).ConfigureAwait(false);
        return TypedResults.NoContent();
    }

    private static void MapTechnicians(RouteGroupBuilder technicians)
    {
        technicians.MapGet("", async (TechnicianService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<TechnicianInfo>(all, null, all.Count));
        }).Own().WithName("listTechnicians").WithSummary("Everybody who can sign in.");
        technicians.MapPost("", async (TechnicianService service, Asker by, NewTechnician wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/technicians/{made.Id}", made);
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("createTechnician").WithSummary("Adds a technician, who may do nothing until a grant says so.");
        technicians.MapDelete("/{id:guid}", async Task<NoContent> (TechnicianService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("removeTechnician").WithSummary("Removes a technician with his grants and sign-ins.");
        technicians.MapPut("/{id:guid}/mail", async (TechnicianService service, Asker by, Guid id, MailWish wish, CancellationToken cancel) => TypedResults.Ok(await service.SetMailAsync(id, wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("setMail").WithSummary("Where notices reach a technician by mail.");
        technicians.MapPost("/{id:guid}/reset-second-factor", async Task<NoContent> (SecondFactorService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.ResetAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("resetSecondFactor").WithSummary("Takes away the second factor of somebody who has lost it; he is signed out everywhere.");
    }

    private static void MapRoles(RouteGroupBuilder roles)
    {
        roles.MapGet("", async (RoleService service, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<RoleInfo>(all, null, all.Count));
        }).Own().WithName("listRoles").WithSummary("Roles and the permissions in them.");
        roles.MapPost("", async (RoleService service, Asker by, NewRole wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/roles/{made.Id}", made);
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("createRole").WithSummary("Makes a role of one's own.");
        roles.MapPut("/{id:guid}", async (RoleService service, HttpContext http, Asker by, Guid id, NewRole wish, CancellationToken cancel) =>
        {
            var role = await service.ChangeAsync(id, wish, http.IfMatchVersion("role"), by, cancel).ConfigureAwait(false);
            http.SetVersion(role.Version);
            return TypedResults.Ok(role);
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("changeRole").WithSummary("Changes a role for everybody who holds it.");
        roles.MapDelete("/{id:guid}", async Task<NoContent> (RoleService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("removeRole").WithSummary("Removes a role that no grant gives.");
    }

    private static void MapTeams(RouteGroupBuilder teams)
    {
        teams.MapGet("", async (TeamService service, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<TeamInfo>(all, null, all.Count));
        }).Own().WithName("listTeams").WithSummary("Teams and who is in them.");
        teams.MapPost("", async (TeamService service, Asker by, NewTeam wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/teams/{made.Id}", made);
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("createTeam").WithSummary("Makes a team.");
        teams.MapDelete("/{id:guid}", async Task<NoContent> (TeamService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("removeTeam").WithSummary("Removes a team with its grants.");
        teams.MapPut("/{id:guid}/members/{technicianId:guid}", async (TeamService service, Asker by, Guid id, Guid technicianId, CancellationToken cancel) =>
            TypedResults.Ok(await service.SetMemberAsync(id, technicianId, true, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("addTeamMember").WithSummary("Puts a technician into a team.");
        teams.MapDelete("/{id:guid}/members/{technicianId:guid}", async (TeamService service, Asker by, Guid id, Guid technicianId, CancellationToken cancel) =>
            TypedResults.Ok(await service.SetMemberAsync(id, technicianId, false, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("removeTeamMember").WithSummary("Takes a technician out of a team.");
    }

    private static void MapGrants(RouteGroupBuilder grants)
    {
        grants.MapGet("", async (GrantService service, Asker by, Guid? technician, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, technician, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<GrantInfo>(all, null, all.Count));
        }).Own().WithName("listGrants").WithSummary("The caller's own grants, and those at places that he administers.");
        grants.MapPost("", async (GrantService service, Asker by, NewGrant wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/grants/{made.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("createGrant").WithSummary("Gives a technician or team a role on a group and below, or on everything.");
        grants.MapPatch("/{id:guid}", async (GrantService service, Asker by, Guid id, GrantChange change, CancellationToken cancel) =>
            TypedResults.Ok(await service.ChangeAsync(id, change, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Administer).WithName("changeGrant").WithSummary("Changes when a grant ends.");
        grants.MapDelete("/{id:guid}", async Task<NoContent> (GrantService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RevokeAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("revokeGrant").WithSummary("Revokes a grant; what goes on because of it ends.");
    }

    /// <summary>What somebody keeps of his own: sign-ins, tokens, password, second factor.</summary>
    private static void MapOwn(RouteGroupBuilder own)
    {
        own.MapPut("/mail", async (TechnicianService service, Asker by, MailWish wish, CancellationToken cancel) => TypedResults.Ok(await service.SetMailAsync(by.Id, wish, by, cancel).ConfigureAwait(false)))
            .InPerson().WithName("setOwnMail").WithSummary("Where notices reach the caller by mail.");
        own.MapGet("/sign-ins", async (SignIns service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<SignInInfo>(all, null, all.Count));
        }).Own().WithName("listSignIns").WithSummary("Where the caller is signed in, and his tokens.");
        own.MapDelete("/sign-ins/{id:guid}", async Task<NoContent> (SignIns service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.EndAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Own().WithName("endSignIn").WithSummary("Ends one of the caller's sign-ins or tokens.");
        own.MapDelete("/sign-ins", async (SignIns service, Asker by, CancellationToken cancel) => TypedResults.Ok(await service.EndOthersAsync(by, cancel).ConfigureAwait(false)))
            .InPerson().WithName("endOtherSignIns").WithSummary("Ends all of them but the one that asks, tokens too; the answer is how many.");
        own.MapGet("/devices", async (Devices devices, Asker by, CancellationToken cancel) =>
        {
            var all = await devices.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<DeviceInfo>(all, null, all.Count));
        }).Own().WithName("listDevices").WithSummary("Devices that the caller has signed in from.");
        own.MapPost("/devices/{deviceId:guid}/confirm", async Task<NoContent> (Devices devices, Asker by, Guid deviceId, CancellationToken cancel) =>
        {
            await devices.ConfirmAsync(deviceId, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).InPerson().WithName("confirmDevice").WithSummary("Says of a new device that it is the caller's own; on another one.");
        own.MapDelete("/devices/{deviceId:guid}", async Task<NoContent> (Devices devices, Asker by, Guid deviceId, CancellationToken cancel) =>
        {
            await devices.ForgetAsync(deviceId, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).InPerson().WithName("forgetDevice").WithSummary("Forgets a device and ends what is signed in on it.");
        own.MapGet("/passkeys", async (PasskeyService service, Asker by) =>
        {
            var all = await service.ListAsync(by).ConfigureAwait(false);
            return TypedResults.Ok(new Page<PasskeyInfo>(all, null, all.Count));
        }).Own().WithName("listPasskeys").WithSummary("The caller's passkeys.");
        own.MapPost("/passkeys/begin", (PasskeyService service, FailureLimiter limiter, HttpContext http, Asker by, PasswordProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.BeginAddAsync(by, proof, http, cancel).ConfigureAwait(false))))
            .InPerson().WithName("beginPasskey").WithSummary("Begins adding a passkey (WebAuthn).");
        own.MapPost("/passkeys", async (PasskeyService service, HttpContext http, Asker by, NewPasskey wish, CancellationToken cancel) => TypedResults.Ok(await service.AddAsync(by, wish, http, cancel).ConfigureAwait(false)))
            .InPerson().WithName("addPasskey").WithSummary("Adds the passkey that the browser made.");
        own.MapDelete("/passkeys/{passkeyId}", async Task<NoContent> (PasskeyService service, Asker by, string passkeyId, CancellationToken cancel) =>
        {
            await service.RemoveAsync(by, passkeyId, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).InPerson().WithName("removePasskey").WithSummary("Removes one of the caller's passkeys.");
        own.MapGet("/linked-logins", async (LinkedLogins logins, Asker by) =>
        {
            var all = await logins.ListAsync(by).ConfigureAwait(false);
            return TypedResults.Ok(new Page<LinkedLogin>(all, null, all.Count));
        }).Own().WithName("listLinkedLogins").WithSummary("Who the caller is at the provider of single sign-on.");
        own.MapPost("/linked-logins", (LinkedLogins logins, FailureLimiter limiter, HttpContext http, Asker by, PasswordProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await logins.BeginAsync(by, proof, cancel).ConfigureAwait(false))))
            .InPerson().WithName("beginLinkedLogin").WithSummary("Begins linking the caller to who they are at the provider of single sign-on: with their password, and then there.");
        own.MapDelete("/linked-logins", async Task<NoContent> (LinkedLogins logins, Asker by, CancellationToken cancel) =>
        {
            await logins.RemoveAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).InPerson().WithName("removeLinkedLogins").WithSummary("Unlinks the caller from the provider of single sign-on.");
        own.MapPost("/tokens", async (SignInService service, Asker by, NewToken wish, CancellationToken cancel) => TypedResults.Ok(await service.CreateTokenAsync(wish, by, cancel).ConfigureAwait(false)))
            .InPerson().WithName("createToken").WithSummary("Makes a token for a script, good for some permissions until a time; it is shown this once.");
        own.MapPost("/password", (SignInService service, FailureLimiter limiter, HttpContext http, Asker by, PasswordChange wish, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.ChangePasswordAsync(wish, by, cancel).ConfigureAwait(false))))
            .InPerson().WithName("changePassword").WithSummary("Changes the caller's password and ends all his other sign-ins; the answer is how many.");
        own.MapPost("/second-factor", (SecondFactorService service, FailureLimiter limiter, HttpContext http, Asker by, PasswordProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.BeginAsync(by, proof, http.Request.Host.Host, cancel).ConfigureAwait(false))))
            .InPerson().WithName("beginSecondFactor").WithSummary("Offers the secret of a second factor; it counts once a code of it was typed.");
        own.MapPost("/second-factor/confirm", (SecondFactorService service, FailureLimiter limiter, HttpContext http, Asker by, SecondFactorProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.ConfirmAsync(by, proof, cancel).ConfigureAwait(false))))
            .InPerson().WithName("confirmSecondFactor").WithSummary("Puts the offered second factor in force; the recovery codes are shown this once.");
        own.MapPost("/second-factor/remove", (SecondFactorService service, FailureLimiter limiter, HttpContext http, Asker by, PasswordProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () =>
            {
                await service.RemoveAsync(by, proof, cancel).ConfigureAwait(false);
                return TypedResults.NoContent();
            })).InPerson().WithName("removeSecondFactor").WithSummary("Removes the caller's second factor, unless everybody needs one.");
        own.MapPost("/recovery-codes", (SecondFactorService service, FailureLimiter limiter, HttpContext http, Asker by, PasswordProof proof, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.RenewCodesAsync(by, proof, cancel).ConfigureAwait(false))))
            .InPerson().WithName("renewRecoveryCodes").WithSummary("New recovery codes in place of the old ones.");
    }

    private static void MapSettings(RouteGroupBuilder settings)
    {
        settings.MapGet("/sign-in", async (SecondFactorService service, CancellationToken cancel) => TypedResults.Ok(await service.SettingsAsync(cancel).ConfigureAwait(false)))
            .Own().WithName("getSignInSettings").WithSummary("What signing in takes here.");
        settings.MapPut("/sign-in", async (SecondFactorService service, Asker by, SignInSettings wish, CancellationToken cancel) => TypedResults.Ok(await service.SetAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("changeSignInSettings").WithSummary("Asks everybody for a second factor, or no more.");
    }

    private static void MapReading(RouteGroupBuilder access)
    {
        access.MapGet("/me", async (AccessReader reader, Asker by, CancellationToken cancel) => TypedResults.Ok(await reader.MeAsync(by, cancel).ConfigureAwait(false)))
            .Own().WithName("getMe").WithSummary("Who is signed in, and what he may do where.");
        access.MapGet("/hosts/{id:guid}/access", (AccessReader reader, Asker by, Guid id, Guid? technician) => TypedResults.Ok(reader.ExplainHost(by, id, technician)))
            .Needs(NeedAt.Host, Permission.See).WithName("explainHostAccess").WithSummary("What the caller (or a technician, for whoever administers the host's group) may do with a host, and why or why not.");
        access.MapGet("/groups/{id:guid}/access", (AccessReader reader, Asker by, Guid id, Guid? technician) => TypedResults.Ok(reader.ExplainGroup(by, id, technician)))
            .Needs(NeedAt.Group, Permission.See).WithName("explainGroupAccess").WithSummary("What the caller (or a technician) may do at a group, and why or why not.");
        access.MapGet("/access/matrix", async (AccessReader reader, Asker by, CancellationToken cancel) => TypedResults.Ok(await reader.MatrixAsync(by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Administer).WithName("getAccessMatrix").WithSummary("Technicians against customers: who reaches what.");
    }
}
