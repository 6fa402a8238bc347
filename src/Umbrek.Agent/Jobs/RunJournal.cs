using System.Text.Json;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Jobs;

/// <summary>
/// A run's directory: the order, the journal, and what the keeper needs. The journal has one writer at a time: the agent
/// while it accepts the order, then whoever holds <see cref="TryLock"/>.
/// </summary>
public sealed class RunDirectory(string path)
{
    public string Path { get; } = path;
    public Guid RunId => Guid.ParseExact(System.IO.Path.GetFileName(Path), "N");
    public string JournalFile => System.IO.Path.Combine(Path, "journal");
    public string OrderFile => System.IO.Path.Combine(Path, "order.json");

    /// <summary>Exists once the command may have been started: from then on it is never started again.</summary>
    public string StartingFile => System.IO.Path.Combine(Path, "starting");

    /// <summary>Exists once the run was cancelled.</summary>
    public string CancelFile => System.IO.Path.Combine(Path, "cancel");
    public string Socket => System.IO.Path.Combine(Path, "keeper");

    public RunOrder ReadOrder() =>
        JsonSerializer.Deserialize(File.ReadAllBytes(OrderFile), LinkJson.Default.RunOrder)
        ?? throw new InvalidDataException($"{OrderFile} is empty.");

    /// <summary>The right to write the journal; null when a living keeper has it.</summary>
    public IDisposable? TryLock()
    {
        try
        {
            return new FileStream(System.IO.Path.Combine(Path, "lock"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException e) when (e is not DirectoryNotFoundException)
        {
            return null;
        }
    }
}

/// <summary>Appends to a journal. Finds its end first and cuts off what a crash left half written.</summary>
public sealed class JournalWriter : IDisposable
{
    private readonly Microsoft.Win32.SafeHandles.SafeFileHandle file;
    private readonly Guid runId;
    private readonly TimeProvider time;
    private readonly byte[] buffer = new byte[JournalRecord.MaxPayload + 64];
    private long end;

    public JournalWriter(RunDirectory run, TimeProvider time)
    {
        this.time = time;
        runId = run.RunId;
        using (var reader = new JournalReader(run))
        {
            while (reader.Read() is { } e)
            {
                NextSequence = e.Sequence + 1;
                Last = e.Kind;
            }
            end = reader.Offset;
        }
        file = File.OpenHandle(run.JournalFile, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.ReadWrite);
        RandomAccess.SetLength(file, end);
    }

    public long NextSequence { get; private set; }
    public RunEventKind? Last { get; private set; }

    public RunEvent Append(RunEventKind kind, ReadOnlyMemory<byte> data) => Write(kind, data, new RunEvent { RunId = runId, Sequence = NextSequence, At = time.GetUtcNow(), Kind = kind });

    public void AppendAccepted() => Append(RunEventKind.Accepted, default);

    public void AppendStarted(RunStart start) => Append(RunEventKind.Started, JsonSerializer.SerializeToUtf8Bytes(start, LinkJson.Default.RunStart));

    public void AppendStep(StepMark mark) => Append(RunEventKind.Step, JsonSerializer.SerializeToUtf8Bytes(mark, LinkJson.Default.StepMark));

    public void AppendEnded(RunEnd how)
    {
        Append(RunEventKind.Ended, JsonSerializer.SerializeToUtf8Bytes(how, LinkJson.Default.RunEnd));
        Flush();
    }

    /// <summary>Returns when everything written is on disk.</summary>
    public void Flush() => RandomAccess.FlushToDisk(file);

    public void Dispose() => file.Dispose();

    private RunEvent Write(RunEventKind kind, ReadOnlyMemory<byte> data, RunEvent e)
    {
        // On failure (a full disk) nothing here has moved on: the same record can be tried again at the same place.
        var length = new JournalRecord(kind, e.Sequence, e.At, data).Encode(buffer);
        RandomAccess.Write(file, buffer.AsSpan(0, length), end);
        end += length;
        NextSequence++;
        Last = kind;
        return e;
    }
}

/// <summary>Reads a journal from the front, also while it grows.</summary>
public sealed class JournalReader : IDisposable
{
    private readonly Microsoft.Win32.SafeHandles.SafeFileHandle? file;
    private readonly Guid runId;
    private byte[] buffer = [];
    private int start;
    private int filled;

    public JournalReader(RunDirectory run, long offset = 0)
    {
        runId = run.RunId;
        Offset = offset;
        file = File.Exists(run.JournalFile) ? File.OpenHandle(run.JournalFile, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete) : null;
    }

    /// <summary>Where the next record starts, in bytes.</summary>
    public long Offset { get; private set; }

    /// <returns>The next whole record, or null when there is none (yet).</returns>
    public RunEvent? Read()
    {
        while (true)
        {
            var result = JournalRecord.TryDecode(buffer.AsMemory(start, filled - start), out var record, out var consumed);
            if (result == JournalRead.Record)
            {
                start += consumed;
                Offset += consumed;
                return ToEvent(record);
            }
            // Bytes that look corrupt may be a record that is being written this instant: read them afresh next time.
            if (!Fill() || result == JournalRead.Corrupt)
            {
                start = filled = 0;
                return null;
            }
        }
    }

    public void Dispose() => file?.Dispose();

    private bool Fill()
    {
        if (file is null)
        {
            return false;
        }
        if (buffer.Length == 0)
        {
            buffer = new byte[2 * JournalRecord.MaxPayload];
        }
        buffer.AsSpan(start, filled - start).CopyTo(buffer);
        filled -= start;
        start = 0;
        var got = RandomAccess.Read(file, buffer.AsSpan(filled), Offset + filled);
        filled += got;
        return got > 0;
    }

    private RunEvent ToEvent(JournalRecord record) => new()
    {
        RunId = runId,
        Sequence = record.Sequence,
        At = record.At,
        Kind = record.Kind,
        Data = record.Kind is RunEventKind.Stdout or RunEventKind.Stderr ? record.Payload.ToArray() : null,
        Start = record.Kind == RunEventKind.Started ? JsonSerializer.Deserialize(record.Payload.Span, LinkJson.Default.RunStart) : null,
        End = record.Kind == RunEventKind.Ended ? JsonSerializer.Deserialize(record.Payload.Span, LinkJson.Default.RunEnd) : null,
        Step = record.Kind == RunEventKind.Step ? JsonSerializer.Deserialize(record.Payload.Span, LinkJson.Default.StepMark) : null,
    };
}
