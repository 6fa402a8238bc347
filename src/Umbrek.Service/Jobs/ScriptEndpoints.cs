using System.Text;
using Microsoft.AspNetCore.Http.HttpResults;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

public static class ScriptEndpoints
{
    public static void MapScripts(this IEndpointRouteBuilder api)
    {
        var scripts = api.MapGroup("/scripts").WithTags("Jobs");
        scripts.MapGet("", async (ScriptLibrary library, Asker by, CancellationToken cancel) =>
        {
            var all = await library.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ScriptInfo>(all, null, all.Count));
        }).Needs(NeedAt.Somewhere, Permission.Run).WithName("listScripts").WithSummary("Scripts that are one's own or shared with one, by name.");
        scripts.MapPost("", async (ScriptLibrary library, HttpContext http, Asker by, NewScript wish, CancellationToken cancel) =>
        {
            var made = await library.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            http.SetVersion(made.Script.Version);
            return TypedResults.Created($"/api/v1/scripts/{made.Script.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Run).WithName("createScript").WithSummary("Keeps a script; a command line becomes one.");
        scripts.MapGet("/{id:guid}", async (ScriptLibrary library, HttpContext http, Asker by, Guid id, int? number, CancellationToken cancel) =>
            Versioned(http, await library.GetAsync(id, number, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("getScript").WithSummary("A script with its newest version, or the one of a number.");
        scripts.MapPut("/{id:guid}", async (ScriptLibrary library, HttpContext http, Asker by, Guid id, ScriptChange wish, CancellationToken cancel) =>
        {
            var changed = await library.ChangeAsync(id, wish, http.IfMatchVersion("script"), by, cancel).ConfigureAwait(false);
            http.SetVersion(changed.Version);
            return TypedResults.Ok(changed);
        }).Needs(NeedAt.Somewhere, Permission.Run).WithName("changeScript").WithSummary("Renames, describes, shares or hands over a script.");
        scripts.MapPost("/{id:guid}/versions", async (ScriptLibrary library, HttpContext http, Asker by, Guid id, NewScriptVersion wish, CancellationToken cancel) =>
            Versioned(http, await library.AddVersionAsync(id, wish, http.IfMatchVersion("script"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("addScriptVersion").WithSummary("Writes the next version of a script.");
        scripts.MapGet("/{id:guid}/comparison", async (ScriptLibrary library, Asker by, Guid id, int from, int? to, CancellationToken cancel) =>
            TypedResults.Ok(await library.CompareAsync(id, from, to, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("compareScriptVersions").WithSummary("Two versions line by line; the newest when 'to' is left out.");
        scripts.MapGet("/{id:guid}/document", async (ScriptLibrary library, Asker by, Guid id, int? number, CancellationToken cancel) =>
        {
            var book = await library.DocumentAsync(id, number, by, cancel).ConfigureAwait(false);
            return TypedResults.File(Encoding.UTF8.GetBytes(RunbookText.Write(book)), "text/markdown; charset=utf-8", $"{book.Title}.md");
        }).Needs(NeedAt.Somewhere, Permission.Run).WithName("getRunbookDocument").WithSummary("A runbook as the Markdown document that it can be written as; the newest version, or the one of a number.");
        scripts.MapPost("/document", (RunbookDraft draft) => draft.Text is { Length: <= 4 * CommandSpec.MaxTextBytes } text
            ? TypedResults.Ok(RunbookText.Read(text, out var problem) ?? throw ProblemException.Invalid(problem))
            : throw ProblemException.Invalid($"Give the document's text, at most {4 * CommandSpec.MaxTextBytes} characters of it."))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("readRunbookDocument").WithSummary("Reads a runbook that is written as a document, and says what can't be read; nothing is kept.");
        scripts.MapPost("/fill", async (ScriptLibrary library, Asker by, ScriptUse use, CancellationToken cancel) =>
            TypedResults.Ok(await library.FillAsync(use, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("fillScript").WithSummary("Reads values for a script's parameters and gives the command that hosts are sent; nothing is run.");
        scripts.MapDelete("/{id:guid}", async Task<NoContent> (ScriptLibrary library, Asker by, Guid id, CancellationToken cancel) =>
        {
            await library.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Run).WithName("removeScript").WithSummary("Removes a script with its versions; jobs keep what they ran.");
    }

    private static Ok<ScriptDetail> Versioned(HttpContext http, ScriptDetail detail)
    {
        http.SetVersion(detail.Script.Version);
        return TypedResults.Ok(detail);
    }
}
