using System.Globalization;
using System.Text;
using System.Text.Json;
using CsvHelper;
using CsvHelper.Configuration;
using Microsoft.AspNetCore.Http.Features;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Audit;

namespace Umbrek.Service.Audit;

public static class AuditEndpoints
{
    public static void MapAudit(this IEndpointRouteBuilder api)
    {
        var audit = api.MapGroup("/audit").WithTags("Audit");
        audit.MapGet("", async (AuditLog log, [AsParameters] AuditQuery query, long? before, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await log.ListAsync(query.ToFilter(), before, limit, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("listAudit").WithSummary("The audit log, newest first; 'before' continues below a number.");
        audit.MapGet("/export", ExportAsync)
            .Produces(StatusCodes.Status200OK, contentType: "application/x-ndjson")
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("exportAudit").WithSummary("The audit log, oldest first, as NDJSON (whose lines can be checked with their hashes) or CSV.");
    }

    private static async Task ExportAsync(AuditLog log, HttpContext http, [AsParameters] AuditQuery query, string? format, CancellationToken cancel)
    {
        var csv = format switch
        {
            null or "" or "ndjson" => false,
            "csv" => true,
            _ => throw ProblemException.Invalid($"'{format}' is no format; it is ndjson or csv."),
        };
        var lines = log.ReadAsync(query.ToFilter(), cancel);
        http.Response.ContentType = csv ? "text/csv; charset=utf-8" : "application/x-ndjson";
        http.Response.Headers.ContentDisposition = $"attachment; filename=\"audit.{(csv ? "csv" : "ndjson")}\"";
        http.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        await (csv ? WriteCsvAsync(http.Response.Body, lines, cancel) : WriteJsonAsync(http.Response.Body, lines, cancel)).ConfigureAwait(false);
    }

    private static async Task WriteJsonAsync(Stream to, IAsyncEnumerable<AuditInfo> lines, CancellationToken cancel)
    {
        await foreach (var line in lines.WithCancellation(cancel).ConfigureAwait(false))
        {
            await JsonSerializer.SerializeAsync(to, line, WireJson.Default.AuditInfo, cancel).ConfigureAwait(false);
            await to.WriteAsync("\n"u8.ToArray(), cancel).ConfigureAwait(false);
        }
    }

    private static async Task WriteCsvAsync(Stream to, IAsyncEnumerable<AuditInfo> lines, CancellationToken cancel)
    {
        await using var text = new StreamWriter(to, new UTF8Encoding(false), leaveOpen: true);
        // Names come from hosts too: a spreadsheet must not take one for a formula. The exact text is in NDJSON.
        await using var csv = new CsvWriter(text, new CsvConfiguration(CultureInfo.InvariantCulture) { InjectionOptions = InjectionOptions.Escape });
        foreach (var title in new[] { "number", "at", "actor", "address", "action", "target", "detail", "hash" })
        {
            csv.WriteField(title);
        }
        await csv.NextRecordAsync().ConfigureAwait(false);
        await foreach (var line in lines.WithCancellation(cancel).ConfigureAwait(false))
        {
            csv.WriteField(line.Number);
            csv.WriteField($"{line.At.UtcDateTime:O}");
            csv.WriteField(line.Actor);
            csv.WriteField(line.Address);
            csv.WriteField(line.Action);
            csv.WriteField(line.Target);
            csv.WriteField(line.Detail);
            csv.WriteField(line.Hash);
            await csv.NextRecordAsync().ConfigureAwait(false);
        }
    }

    /// <summary>What narrows the log, from the query.</summary>
    internal sealed class AuditQuery
    {
        public string? Action { get; init; }
        public string? Actor { get; init; }
        public string? Target { get; init; }
        public string? Address { get; init; }
        public DateTimeOffset? From { get; init; }
        public DateTimeOffset? To { get; init; }

        public AuditFilter ToFilter() => From > To
            ? throw ProblemException.Invalid("'from' is later than 'to'; exchange them.")
            : new AuditFilter(Action, Actor, Target, Address, From, To);
    }
}
