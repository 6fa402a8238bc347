using System.IO.Compression;
using System.Text;
using System.Text.Json;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>The output of a whole job as one file, written as it is read: however much it is, little of it is in memory.</summary>
public sealed class OutputDownload(AnswerReader answers, JobReader jobs)
{
    private const int PieceBytes = 1 << 20;

    public async Task WriteAsync(Guid jobId, string? form, Asker by, HttpContext http, CancellationToken cancel)
    {
        var isZip = form switch
        {
            "zip" => true,
            "ndjson" or null or "" => false,
            _ => throw ProblemException.Invalid($"'{form}' is no form of a download; write as=ndjson, a line for each host, or as=zip, files for each host."),
        };
        var (runs, _) = await answers.ReadableAsync(jobId, by, cancel).ConfigureAwait(false);
        http.Response.ContentType = isZip ? "application/zip" : "application/x-ndjson";
        http.Response.Headers.ContentDisposition = $"attachment; filename=\"job-{jobId}.{(isZip ? "zip" : "ndjson")}\"";
        if (isZip)
        {
            await using var target = new LateStream(http.Response.Body);
            await WriteZipAsync(runs, target, cancel).ConfigureAwait(false);
        }
        else
        {
            await WriteLinesAsync(runs, http.Response.Body, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>For each host a JSON object in a line: what is known of the run, stdout and stderr as text. Broken UTF-8 is replaced; the other form has every byte.</summary>
    private async Task WriteLinesAsync(List<RunInfo> runs, Stream target, CancellationToken cancel)
    {
        await using var json = new Utf8JsonWriter(target);
        foreach (var run in runs)
        {
            json.WriteStartObject();
            using (var known = JsonSerializer.SerializeToDocument(run, WireJson.Default.RunInfo))
            {
                foreach (var property in known.RootElement.EnumerateObject())
                {
                    property.WriteTo(json);
                }
            }
            foreach (var stream in new[] { RunEventKind.Stdout, RunEventKind.Stderr })
            {
                json.WritePropertyName(stream == RunEventKind.Stdout ? "stdout" : "stderr");
                await WriteTextAsync(json, run, stream, cancel).ConfigureAwait(false);
            }
            json.WriteEndObject();
            await json.FlushAsync(cancel).ConfigureAwait(false);
            json.Reset(target);
            await target.WriteAsync("\n"u8.ToArray(), cancel).ConfigureAwait(false);
        }
    }

    private async Task WriteTextAsync(Utf8JsonWriter json, RunInfo run, RunEventKind stream, CancellationToken cancel)
    {
        // A letter may be cut in two by the edge of a piece.
        var decoder = Encoding.UTF8.GetDecoder();
        var characters = new char[RunEvent.MaxDataBytes + 4];
        await foreach (var data in ReadAsync(run, stream, cancel).ConfigureAwait(false))
        {
            var got = decoder.GetChars(data, characters, flush: false);
            json.WriteStringValueSegment(characters.AsSpan(0, got), isFinalSegment: false);
            if (json.BytesPending > PieceBytes)
            {
                await json.FlushAsync(cancel).ConfigureAwait(false);
            }
        }
        var last = decoder.GetChars([], characters, flush: true);
        json.WriteStringValueSegment(characters.AsSpan(0, last), isFinalSegment: true);
    }

    /// <summary>For each host a file for each stream that it wrote to, and one with what is known of the runs.</summary>
    private async Task WriteZipAsync(List<RunInfo> runs, Stream target, CancellationToken cancel)
    {
        await using var zip = await ZipArchive.CreateAsync(target, ZipArchiveMode.Create, leaveOpen: true, Encoding.UTF8, cancel).ConfigureAwait(false);
        await using (var list = await zip.CreateEntry("runs.json", CompressionLevel.Fastest).OpenAsync(cancel).ConfigureAwait(false))
        {
            await JsonSerializer.SerializeAsync(list, runs, WireJson.Default.ListRunInfo, cancel).ConfigureAwait(false);
        }
        var taken = new HashSet<string>(StringComparer.OrdinalIgnoreCase) { "runs" };
        foreach (var run in runs)
        {
            var name = FileName(run, taken);
            foreach (var (stream, bytes) in new[] { (RunEventKind.Stdout, run.StdoutBytes), (RunEventKind.Stderr, run.StderrBytes) })
            {
                if (bytes == 0 || run.OutputGone)
                {
                    continue;
                }
                await using var file = await zip.CreateEntry($"{name}{(stream == RunEventKind.Stdout ? "" : ".stderr")}.txt", CompressionLevel.Fastest).OpenAsync(cancel).ConfigureAwait(false);
                await foreach (var data in ReadAsync(run, stream, cancel).ConfigureAwait(false))
                {
                    await file.WriteAsync(data, cancel).ConfigureAwait(false);
                }
            }
        }
    }

    private async IAsyncEnumerable<byte[]> ReadAsync(RunInfo run, RunEventKind stream, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancel)
    {
        if (run.OutputGone)
        {
            yield break;
        }
        var after = -1L;
        while (await jobs.ReadOutputAsync(run.Id, after, PieceBytes, cancel).ConfigureAwait(false) is { Count: > 0 } pieces)
        {
            after = pieces[^1].Sequence;
            foreach (var piece in pieces.Where(p => p.Stream == stream))
            {
                yield return piece.Data;
            }
        }
    }

    /// <summary>A name that every file system takes, and no other host of the job has.</summary>
    private static string FileName(RunInfo run, HashSet<string> taken)
    {
        var clean = string.Concat((run.SystemName.Length > 0 ? run.SystemName : run.HostLabel).Select(c => char.IsLetterOrDigit(c) || c is '-' or '_' or '.' ? c : '_')).Trim('.');
        var name = clean.Length is 0 or > 100 ? $"host-{run.HostId:N}" : clean;
        for (var n = 2; !taken.Add(name); n++)
        {
            name = $"{clean}-{n}";
        }
        return name;
    }
}
