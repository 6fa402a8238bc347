using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.Net.Http.Headers;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

public static class EstateEndpoints
{
    public static void MapEstate(this IEndpointRouteBuilder api)
    {
        var hosts = api.MapGroup("/hosts").WithTags("Estate");
        hosts.MapGet("", (HostService service, string? selection, string? cursor, int? limit) =>
            TypedResults.Ok(Paging.Cut(service.Select(selection), cursor, limit, h => h.Id)))
            .WithName("listHosts").WithSummary("Hosts of a selection, by label.");
        hosts.MapGet("/{id:guid}", async (HostService service, HttpContext http, Guid id, CancellationToken cancel) =>
        {
            var host = await service.GetAsync(id, cancel).ConfigureAwait(false);
            http.Response.Headers.ETag = $"\"{host.Version}\"";
            return TypedResults.Ok(host);
        }).WithName("getHost").WithSummary("Everything known of one host.");
        hosts.MapPatch("/{id:guid}", async (HostService service, HttpContext http, Guid id, HostChange change, CancellationToken cancel) =>
        {
            var host = await service.ChangeAsync(id, change, IfMatch(http), cancel).ConfigureAwait(false);
            http.Response.Headers.ETag = $"\"{host.Version}\"";
            return TypedResults.Ok(host);
        }).WithName("changeHost").WithSummary("Relabels or moves a host; If-Match holds the version that was read.");
        hosts.MapPost("/{id:guid}/refresh", async Task<NoContent> (HostService service, Guid id, CancellationToken cancel) =>
        {
            await service.RefreshFactsAsync(id, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).WithName("refreshHost").WithSummary("Asks a linked host to report all its facts now.");

        var groups = api.MapGroup("/groups").WithTags("Estate");
        groups.MapGet("", async (GroupService service, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<GroupInfo>(all, null, all.Count));
        }).WithName("listGroups").WithSummary("The tree of customers and groups, by path.");
        groups.MapPost("", async (GroupService service, NewGroup group, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(group, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/groups/{made.Id}", made);
        }).WithName("createGroup").WithSummary("Makes a customer or a group.");
    }

    private static long IfMatch(HttpContext http) =>
        http.Request.GetTypedHeaders().IfMatch is [EntityTagHeaderValue tag] && long.TryParse(tag.Tag.AsSpan().Trim('"'), out var version)
            ? version
            : throw new ProblemException(428, ProblemTypes.Changed, "Say which version of the host you change: send its ETag as If-Match.");
}
