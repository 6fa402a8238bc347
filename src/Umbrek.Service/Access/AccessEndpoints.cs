using Microsoft.AspNetCore.Http.HttpResults;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Access;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Access;

public static class AccessEndpoints
{
    public static void MapAccess(this IEndpointRouteBuilder api)
    {
        var access = api.MapGroup("").WithTags("Access");
        access.MapGet("/set-up", async (AccessService service, CancellationToken cancel) => TypedResults.Ok(await service.SetUpStateAsync(cancel).ConfigureAwait(false)))
            .AllowAnonymous().WithName("getSetUp").WithSummary("Whether the first technician is still to be made.");
        access.MapPost("/set-up", (AccessService service, FailureLimiter limiter, HttpContext http, SetUpRequest request, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.SetUpAsync(request, http.Address(), cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("setUp").WithSummary("Makes the first technician with the code from the service's terminal.");
        access.MapPost("/sign-in", (AccessService service, FailureLimiter limiter, HttpContext http, SignInRequest request, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.SignInAsync(request, http.Address(), cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithName("signIn").WithSummary("Signs in, for a cookie or for a bearer token.");
        access.MapPost("/sign-out", async Task<NoContent> (AccessService service, HttpContext http, CancellationToken cancel) =>
        {
            await service.SignOutAsync(http.User, http.Caller(), cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).WithName("signOut").WithSummary("Ends the caller's own sign-in.");
        access.MapGet("/me", (HttpContext http) => TypedResults.Ok(new TechnicianInfo(http.User.TechnicianId(), http.User.TechnicianName(), "lead")))
            .WithName("getMe").WithSummary("Who is signed in.");
        access.MapGet("/technicians", async (AccessService service, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<TechnicianInfo>(all, null, all.Count));
        }).WithName("listTechnicians").WithSummary("Everybody who can sign in.");
        access.MapPost("/technicians", async (AccessService service, HttpContext http, NewTechnician wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish.Name, wish.Password, http.Caller(), cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/technicians/{made.Id}", made);
        }).WithName("createTechnician").WithSummary("Adds a technician.");
    }
}
