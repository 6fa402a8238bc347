using Umbrek.Core.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Access;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Access;

public static class VaultEndpoints
{
    private const long MostBackupBytes = 64 << 20;

    public static void MapVault(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("").WithTags("Access");
        all.MapGet("/vault", async (VaultService service, CancellationToken cancel) => TypedResults.Ok(await service.StateAsync(cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("getVault").WithSummary("How the vault stands.");
        all.MapPost("/vault/rotate-key", async (VaultService service, Asker by, CancellationToken cancel) => TypedResults.Ok(await service.RotateKeyAsync(by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("rotateVaultKey").WithSummary("Makes another key of the vault and encrypts everything with it.");
        all.MapPost("/vault/backup", async (VaultService service, HttpContext http, Asker by, VaultBackupRequest wish, CancellationToken cancel) =>
        {
            http.Response.Headers.CacheControl = "no-store";
            return TypedResults.Ok(await service.BackUpAsync(wish, by, cancel).ConfigureAwait(false));
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("backUpVault").WithSummary("Everything in the vault, encrypted under a passphrase; takes reveal-secrets everywhere too.");
        all.MapPost("/vault/restore", async (VaultService service, Asker by, VaultRestore wish, CancellationToken cancel) => TypedResults.Ok(await service.RestoreAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(MostBackupBytes))
            .WithName("restoreVault").WithSummary("Puts back what is missing of a backup; what is there stays as it is. Takes reveal-secrets everywhere too.");

        all.MapGet("/secrets", async (VaultService service, Asker by, Guid? host, Guid? group, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await service.ListAsync(host, group, cursor, limit, by, cancel).ConfigureAwait(false)))
            .Own().WithName("listSecrets").WithSummary("Secrets at places where the caller may use them or see them, newest first, without their texts.");
        all.MapPost("/secrets", async (VaultService service, Asker by, NewSecret wish, CancellationToken cancel) =>
        {
            var made = await service.AddAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/secrets/{made.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("createSecret").WithSummary("Puts a secret into the vault, at a host or a group.");
        all.MapGet("/secrets/{id:guid}", async (VaultService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) =>
        {
            var found = await service.GetAsync(id, by, cancel).ConfigureAwait(false);
            http.SetVersion(found.Info.Version);
            return TypedResults.Ok(found);
        }).Needs(NeedAt.Somewhere, Permission.UseSecrets).WithName("getSecret").WithSummary("A secret with its history, without its texts.");
        all.MapPatch("/secrets/{id:guid}", async (VaultService service, HttpContext http, Asker by, Guid id, SecretChange change, CancellationToken cancel) =>
            TypedResults.Ok(await service.ChangeAsync(id, change, http.IfMatchVersion("secret"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("changeSecret").WithSummary("Changes a secret; the text before is kept.");
        all.MapPost("/secrets/{id:guid}/reveal", async (VaultService service, HttpContext http, Asker by, Guid id, RevealRequest wish, CancellationToken cancel) =>
        {
            http.Response.Headers.CacheControl = "no-store";
            return TypedResults.Ok(await service.RevealAsync(id, wish, by, cancel).ConfigureAwait(false));
        }).Needs(NeedAt.Somewhere, Permission.RevealSecrets).WithName("revealSecret").WithSummary("Shows a secret to whoever says why; that stands in the audit log.");
        all.MapDelete("/secrets/{id:guid}", async (VaultService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("removeSecret").WithSummary("Removes a secret with its history.");

        all.MapPost("/key-rotations", async (KeyRotationService service, Asker by, NewKeyRotation wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/key-rotations/{made.Info.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("createKeyRotation").WithSummary("Gives hosts other access keys, which go into the vault.");
        all.MapGet("/key-rotations", async (KeyRotationService service, Asker by, CancellationToken cancel) =>
        {
            var found = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<KeyRotationInfo>(found, null, found.Count));
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("listKeyRotations").WithSummary("Rotations of access keys, newest first.");
        all.MapGet("/key-rotations/{id:guid}", async (KeyRotationService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Administer).WithName("getKeyRotation").WithSummary("How far each host is with another access key.");
        all.MapPost("/key-rotations/{id:guid}/cancel", async (KeyRotationService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.CancelAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Administer).WithName("cancelKeyRotation").WithSummary("Changes no further key; those that were changed stay.");
    }
}
