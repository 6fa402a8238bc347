using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Enrolment;

public static class EnrolmentEndpoints
{
    public static void MapEnrolment(this IEndpointRouteBuilder api)
    {
        api.MapPost("/enrolments", (EnrolmentService service, FailureLimiter limiter, HttpContext http, EnrolmentRequest request, CancellationToken cancel) =>
            limiter.GuardAsync(http, async () => TypedResults.Ok(await service.EnrolAsync(request, cancel).ConfigureAwait(false))))
            .AllowAnonymous().WithTags("Enrolment").WithName("enrol").WithSummary("A new host presents its token and its key.");

        var tokens = api.MapGroup("/enrolment-tokens").WithTags("Enrolment");
        tokens.MapGet("", async (EnrolmentService service, CancellationToken cancel) =>
        {
            var all = await service.ListTokensAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<EnrolmentTokenInfo>(all, null, all.Count));
        }).WithName("listEnrolmentTokens").WithSummary("Enrolment tokens, newest first.");
        tokens.MapPost("", async (EnrolmentService service, HttpContext http, NewEnrolmentToken wish, CancellationToken cancel) =>
        {
            var made = await service.CreateTokenAsync(wish, http.User.TechnicianName(), $"{http.Request.Scheme}://{http.Request.Host}", cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/enrolment-tokens/{made.Info.Id}", made);
        }).WithName("createEnrolmentToken").WithSummary("Makes a token; its text is in this answer and nowhere else.");
        tokens.MapPost("/{id:guid}/revoke", async (EnrolmentService service, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.RevokeTokenAsync(id, cancel).ConfigureAwait(false)))
            .WithName("revokeEnrolmentToken").WithSummary("Ends a token; hosts that came in with it stay.");
    }
}
