using System.Text;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Http.Metadata;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

public static class EstateEndpoints
{
    /// <summary>Largest body of an import.</summary>
    private const long MaxImportBytes = 32 << 20;

    public static void MapEstate(this IEndpointRouteBuilder api)
    {
        MapHosts(api.MapGroup("/hosts").WithTags("Estate"));
        MapGroups(api.MapGroup("/groups").WithTags("Estate"));
        MapCustomers(api.MapGroup("/customers").WithTags("Estate"));
        MapSelections(api.MapGroup("/selections").WithTags("Estate"));
        MapMine(api.MapGroup("").WithTags("Estate"));
        MapExchange(api.MapGroup("/estate").WithTags("Estate"));
    }

    private static void MapHosts(RouteGroupBuilder hosts)
    {
        hosts.MapGet("", async (SelectionService service, Asker by, string? selection, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(Paging.Cut(await service.SelectAsync(selection, by.Reach, cancel).ConfigureAwait(false), cursor, limit, h => h.Id)))
            .Own().WithName("listHosts").WithSummary("Hosts of a selection, by label.");
        hosts.MapGet("/{id:guid}", async (HostService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) =>
        {
            var host = await service.GetAsync(id, by.Id, cancel).ConfigureAwait(false);
            http.SetVersion(host.Version);
            return TypedResults.Ok(host);
        }).Needs(NeedAt.Host, Permission.See).WithName("getHost").WithSummary("Everything known of one host.");
        hosts.MapPatch("/{id:guid}", async (HostService service, HttpContext http, Asker by, Guid id, HostChange change, CancellationToken cancel) =>
        {
            await service.ChangeAsync(id, change, http.IfMatchVersion("host"), by, cancel).ConfigureAwait(false);
            var host = await service.GetAsync(id, by.Id, cancel).ConfigureAwait(false);
            http.SetVersion(host.Version);
            return TypedResults.Ok(host);
        }).Needs(NeedAt.Host, Permission.Configure).WithName("changeHost").WithSummary("Labels, moves, tags or annotates a host; If-Match holds the version that was read.");
        hosts.MapPost("/{id:guid}/refresh", async Task<NoContent> (HostService service, Guid id, CancellationToken cancel) =>
        {
            await service.RefreshFactsAsync(id, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Host, Permission.See).WithName("refreshHost").WithSummary("Asks a linked host to report all its facts now.");
        hosts.MapGet("/{id:guid}/timeline", async (TimelineReader reader, Guid id, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await reader.ReadAsync(id, cursor is null ? null : DateTimeOffset.TryParse(cursor, out var before) ? before : throw ProblemException.Invalid("The cursor is not one that this listing gave; list again from the start."), limit, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.See).WithName("getTimeline").WithSummary("What happened to a host, newest first.");
        hosts.MapPost("/{id:guid}/retire", async (HostLifeService service, Asker by, Guid id, HostEnd wish, CancellationToken cancel) =>
            TypedResults.Ok(await service.RetireAsync(id, wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.Configure).WithName("retireHost").WithSummary("Takes a host out of care, or says what that would do.");
        hosts.MapPost("/{id:guid}/restore", async (HostLifeService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.RestoreAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.Configure).WithName("restoreHost").WithSummary("Takes a retired host into care again.");
        hosts.MapPost("/{id:guid}/merge", async (HostLifeService service, Asker by, Guid id, HostMerge wish, CancellationToken cancel) =>
            TypedResults.Ok(await service.MergeAsync(id, wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.Configure).WithName("mergeHost").WithSummary("Puts a host's history under another entry of the same machine, or says what that would do.");
        hosts.MapPost("/edits", async (BulkEditService service, Asker by, BulkEdit wish, CancellationToken cancel) =>
            TypedResults.Ok(await service.EditAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("editHosts").WithSummary("Moves, tags or fills in many hosts, all or none, or says what would change.");
    }

    private static void MapGroups(RouteGroupBuilder groups)
    {
        groups.MapGet("", async (GroupService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<GroupInfo>(all, null, all.Count));
        }).Own().WithName("listGroups").WithSummary("The tree of customers and groups, by path.");
        groups.MapPost("", async (GroupService service, Asker by, NewGroup group, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(group, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/groups/{made.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("createGroup").WithSummary("Makes a customer or a group.");
        groups.MapPatch("/{id:guid}", async (GroupService service, HttpContext http, Asker by, Guid id, GroupChange change, CancellationToken cancel) =>
        {
            var group = await service.ChangeAsync(id, change, http.IfMatchVersion("group"), by, cancel).ConfigureAwait(false);
            http.SetVersion(group.Version);
            return TypedResults.Ok(group);
        }).Needs(NeedAt.Group, Permission.Configure).WithName("changeGroup").WithSummary("Renames or moves a group with everything in it.");
        groups.MapDelete("/{id:guid}", async Task<NoContent> (GroupService service, Asker by, Guid id, string? hostsTo, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, hostsTo, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Group, Permission.Configure).WithName("removeGroup").WithSummary("Removes a group with those below it; hosts in it go to another group, or there are none.");
    }

    private static void MapCustomers(RouteGroupBuilder customers)
    {
        customers.MapGet("", async (CustomerService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<CustomerInfo>(all, null, all.Count));
        }).Own().WithName("listCustomers").WithSummary("Customers with what is kept of them.");
        customers.MapGet("/{id:guid}", async (CustomerService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Versioned(http, await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Group, Permission.See).WithName("getCustomer").WithSummary("One customer.");
        customers.MapPatch("/{id:guid}", async (CustomerService service, HttpContext http, Asker by, Guid id, CustomerChange change, CancellationToken cancel) =>
            Versioned(http, await service.ChangeAsync(id, change, http.IfMatchVersion("customer"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Group, Permission.Configure).WithName("changeCustomer").WithSummary("Changes contact, address, notes, colour or emblem.");
        customers.MapPost("/{id:guid}/fields", async (CustomerService service, HttpContext http, Asker by, Guid id, NewOwnField field, CancellationToken cancel) =>
            Versioned(http, await service.AddFieldAsync(id, field, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Group, Permission.Configure).WithName("addField").WithSummary("Gives a customer's hosts a field of their own.");
        customers.MapDelete("/{id:guid}/fields/{fieldId:guid}", async (CustomerService service, HttpContext http, Asker by, Guid id, Guid fieldId, CancellationToken cancel) =>
            Versioned(http, await service.RemoveFieldAsync(id, fieldId, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Group, Permission.Configure).WithName("removeField").WithSummary("Removes an own field with all its values.");

        static Ok<CustomerInfo> Versioned(HttpContext http, CustomerInfo customer)
        {
            http.SetVersion(customer.Version);
            return TypedResults.Ok(customer);
        }
    }

    private static void MapSelections(RouteGroupBuilder selections)
    {
        selections.MapGet("", async (SelectionService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<SavedSelectionInfo>(all, null, all.Count));
        }).Own().WithName("listSelections").WithSummary("Saved selections with the number of hosts that each names now.");
        selections.MapPost("", async (SelectionService service, Asker by, NewSavedSelection wish, CancellationToken cancel) =>
        {
            var made = await service.SaveAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/selections/{made.Id}", made);
        }).Own().WithName("saveSelection").WithSummary("Keeps a selection under a name.");
        selections.MapPut("/{id:guid}", async (SelectionService service, HttpContext http, Asker by, Guid id, NewSavedSelection wish, CancellationToken cancel) =>
            TypedResults.Ok(await service.ChangeAsync(id, wish, http.IfMatchVersion("saved selection"), by, cancel).ConfigureAwait(false)))
            .Own().WithName("changeSelection").WithSummary("Changes a saved selection.");
        selections.MapDelete("/{id:guid}", async Task<NoContent> (SelectionService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Own().WithName("removeSelection").WithSummary("Removes a saved selection; the hosts stay.");
        selections.MapGet("/check", async (SelectionService service, Asker by, string? selection, CancellationToken cancel) => TypedResults.Ok(await service.CheckAsync(selection, by.Reach, cancel).ConfigureAwait(false)))
            .Own().WithName("checkSelection").WithSummary("Reads a selection: as it was understood, and how many hosts it names.");
        selections.MapGet("/completions", async (SelectionService service, Asker by, string? text, int? cursor, CancellationToken cancel) =>
            TypedResults.Ok(await service.CompleteAsync(text is { Length: > Core.Estate.SelectionParser.MaxLength } ? "" : text ?? "", cursor ?? int.MaxValue, by.Reach, cancel).ConfigureAwait(false)))
            .Own().WithName("completeSelection").WithSummary("How a selection that is being typed can go on at the cursor.");
    }

    private static void MapMine(RouteGroupBuilder mine)
    {
        mine.MapGet("/find", async (OwnMarkService service, Asker by, string? text, int? limit, CancellationToken cancel) =>
        {
            var hits = await service.FindAsync(by, text, limit, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<FindHit>(hits, null, hits.Count));
        }).Own().WithName("findHosts").WithSummary("Quick find: hosts by any part of a name, address, customer, tag or person, also mistyped; nothing typed gives pinned and recent ones.");
        mine.MapGet("/marks", async (OwnMarkService service, Asker by, CancellationToken cancel) =>
        {
            var marks = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<MarkedHost>(marks, null, marks.Count));
        }).Own().WithName("listMarks").WithSummary("Hosts that the caller pinned, coloured or opened lately.");
        mine.MapPut("/hosts/{id:guid}/mark", async (OwnMarkService service, Asker by, Guid id, bool? pinned, string? colour, CancellationToken cancel) =>
            TypedResults.Ok(await service.SetAsync(by, id, pinned, colour, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.See).WithName("markHost").WithSummary("Pins or colours a host for the caller alone.");
        mine.MapPost("/hosts/{id:guid}/opened", async (OwnMarkService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.OpenedAsync(by, id, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.See).WithName("openedHost").WithSummary("Notes that the caller has opened a host's page.");
        mine.MapGet("/preferences/{name}", async (OwnMarkService service, Asker by, string name, CancellationToken cancel) =>
            TypedResults.Text(await service.PreferenceAsync(by.Id, name, cancel).ConfigureAwait(false) ?? "null", "application/json"))
            .Own().WithName("getPreference").WithSummary("How the caller likes a page.");
        mine.MapPut("/preferences/{name}", async Task<NoContent> (OwnMarkService service, HttpContext http, Asker by, string name, CancellationToken cancel) =>
        {
            using var reader = new StreamReader(http.Request.Body, Encoding.UTF8);
            await service.SetPreferenceAsync(by.Id, name, await reader.ReadToEndAsync(cancel).ConfigureAwait(false), cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Accepts<object>("application/json").Own().WithName("setPreference").WithSummary("Keeps how the caller likes a page.");
    }

    private static void MapExchange(RouteGroupBuilder estate)
    {
        estate.MapGet("/tree", async Task<IResult> (TreeExchange service, Asker by, string? format, CancellationToken cancel) =>
        {
            var lines = await service.ExportAsync(by, cancel).ConfigureAwait(false);
            return format switch
            {
                null or "json" => TypedResults.Json(lines, WireJson.Default.ListTreeLine),
                "csv" => TypedResults.Text(TreeCsv.Write(lines), "text/csv", Encoding.UTF8),
                _ => throw ProblemException.Invalid($"'{format}' is no format; it is csv or json."),
            };
        }).Own().WithName("exportTree").WithSummary("Customers, groups and hosts in their places, as JSON or CSV.");
        estate.MapPost("/tree", async (TreeExchange service, HttpContext http, Asker by, bool? preview, CancellationToken cancel) =>
        {
            using var reader = new StreamReader(http.Request.Body, Encoding.UTF8);
            var csv = http.Request.ContentType?.StartsWith("text/csv", StringComparison.OrdinalIgnoreCase) == true;
            return TypedResults.Ok(await service.ImportAsync(await reader.ReadToEndAsync(cancel).ConfigureAwait(false), csv, preview ?? false, by, cancel).ConfigureAwait(false));
        }).Accepts<object>("text/csv", "application/json").WithMetadata(new BodyLimit(MaxImportBytes)).Needs(NeedAt.Somewhere, Permission.Configure).WithName("importTree").WithSummary("Imports such a tree, all lines or none, or says what it would change.");
    }

    private sealed class BodyLimit(long bytes) : IRequestSizeLimitMetadata
    {
        public long? MaxRequestBodySize => bytes;
    }
}
