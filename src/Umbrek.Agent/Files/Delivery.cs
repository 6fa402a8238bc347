using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>
/// Puts what a parcel holds where it was ordered to, and says what came of it: lines that are equal on hosts on which the same came of it.
/// </summary>
public sealed class Delivery(DeliverFiles wish, IParcelSource source, IHostFiles files, IFileChanges changes, TextWriter say, TimeProvider time)
{
    public const int Done = 0;
    public const int NotAll = 1;
    public const int Nothing = 2;

    /// <summary>Something is in the way, and somebody is to say what becomes of it.</summary>
    public const int Asks = 3;

    private const int MostListBytes = 128 << 20;

    /// <summary>So many things are told one by one, each kind.</summary>
    private const int MostTold = 20;
    private const int BufferBytes = 256 * 1024;

    /// <summary>Zeros of this length are left out of what is written.</summary>
    private const int HoleBytes = 64 * 1024;
    private static readonly byte[] Zeros = new byte[HoleBytes];

    private readonly byte[] buffer = new byte[BufferBytes];
    private readonly List<string> put = [];
    private readonly List<string> same = [];
    private readonly List<string> kept = [];
    private readonly List<string> troubles = [];
    private long putBytes;
    private int folders;

    private sealed record Item(ParcelEntry Entry, FileName Target, long At, Placing Placing);

    /// <param name="folder">Where everything comes to lie.</param>
    /// <returns>0 when all is there, 1 when something is not, 2 when nothing was tried, 3 when something is in the way and nothing was tried.</returns>
    public async Task<int> RunAsync(FileName folder, bool makes, CancellationToken cancel)
    {
        try
        {
            var (head, entries) = await ReadListAsync(cancel).ConfigureAwait(false);
            if (MakeFolder(folder, makes) is { } missing)
            {
                return Say(missing, Nothing);
            }
            var plan = Plan(folder, entries);
            if (plan.FindAll(i => i.Placing == Placing.Ask) is { Count: > 0 } asks)
            {
                Say($"Nothing was put there: {(asks.Count == 1 ? "1 file is" : $"{asks.Count} files are")} in the way. Say whether to keep, replace, replace where they are older, or put beside.", Asks);
                Tell([.. asks.Select(i => $"{i.Target} is there already, and is another one.")]);
                return Asks;
            }
            await using var body = new ParcelReader(source, head.Body, time);
            foreach (var item in plan)
            {
                var before = troubles.Count;
                await PutAsync(item, body, cancel).ConfigureAwait(false);
                if (troubles.Count > before && wish.StopsAtError)
                {
                    troubles.Add("The rest was not tried.");
                    break;
                }
            }
            return Sum(folder);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            troubles.Add(e.Message);
            return put.Count + same.Count + kept.Count > 0 ? Sum(folder) : Say(e.Message, Nothing);
        }
    }

    /// <exception cref="InvalidDataException">It is not what was ordered.</exception>
    private async Task<(ParcelHead Head, List<ParcelEntry> Entries)> ReadListAsync(CancellationToken cancel)
    {
        await using var reader = new ParcelReader(source, wish.Digest, time);
        var text = await reader.ReadAllAsync(MostListBytes, cancel).ConfigureAwait(false);
        if (Convert.ToHexStringLower(SHA256.HashData(text)) != wish.Digest)
        {
            throw new InvalidDataException("What the service sends is not what was ordered; nothing was put anywhere.");
        }
        ParcelHead? head = null;
        var entries = new List<ParcelEntry>();
        try
        {
            foreach (var line in Encoding.UTF8.GetString(text).Split('\n', StringSplitOptions.RemoveEmptyEntries))
            {
                if (head is null)
                {
                    head = JsonSerializer.Deserialize(line, LinkJson.Default.ParcelHead);
                }
                else
                {
                    entries.Add(JsonSerializer.Deserialize(line, LinkJson.Default.ParcelEntry)!);
                }
            }
        }
        catch (JsonException)
        {
            throw new InvalidDataException("This agent can't read the list of what is to be put here. Update it; nothing was put anywhere.");
        }
        return head is { Parcel: ParcelHead.Version, Body.Length: 64 } && Parcel.Check(entries) is null && entries.TrueForAll(e => e.Kind != FileKind.File || e.Sha256 is not null)
            && (entries.Count(e => e.Kind == FileKind.File), entries.Sum(e => e.Bytes)) == (wish.Files, wish.Bytes)
            ? (head, entries)
            : throw new InvalidDataException("The list of what is to be put here is not what was ordered; nothing was put anywhere.");
    }

    private string? MakeFolder(FileName folder, bool makes)
    {
        if (!makes && Folders.Missing(files, folder).Count > 0)
        {
            return $"There is no folder {folder} on this host; nothing was put anywhere.";
        }
        Folders.Make(files, changes, folder);
        return files.Look(folder).Kind == FileKind.Folder ? null : $"{folder} is no folder on this host; nothing was put anywhere.";
    }

    /// <summary>What is done with each, before anything is: whoever is to be asked finds everything as it was.</summary>
    private List<Item> Plan(FileName folder, List<ParcelEntry> entries)
    {
        var plan = new List<Item>(entries.Count);
        var at = 0L;
        foreach (var entry in entries)
        {
            var target = folder.In(entry.Path);
            plan.Add(new Item(entry, target, at, entry.Kind == FileKind.File ? Decide(entry, target) : Placing.Put));
            at += entry.Bytes;
        }
        return plan;
    }

    private Placing Decide(ParcelEntry entry, FileName target)
    {
        var there = files.Find(target);
        if (there is { Kind: FileKind.Link, TargetKind: FileKind.File })
        {
            there = files.Look(target);
        }
        return Placings.Decide(wish.Existing, there, entry.Bytes, entry.ChangedAt, there is { Kind: FileKind.File } && there.Bytes == entry.Bytes && IsSame(entry, target));
    }

    private bool IsSame(ParcelEntry entry, FileName target)
    {
        try
        {
            using var held = files.Open(target);
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            var from = 0L;
            while (held.Read(from, buffer) is > 0 and var got)
            {
                hash.AppendData(buffer, 0, got);
                from += got;
            }
            return hash.GetHashAndReset().AsSpan().SequenceEqual(entry.Sha256);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    private async Task PutAsync(Item item, ParcelReader body, CancellationToken cancel)
    {
        try
        {
            switch (item)
            {
                case { Entry.Kind: FileKind.Folder }:
                    changes.MakeFolder(item.Target);
                    folders++;
                    break;
                case { Entry.Kind: FileKind.Link }:
                    PutLink(item);
                    break;
                case { Placing: Placing.Same }:
                    same.Add($"{item.Target} was there as it was sent.");
                    break;
                case { Placing: Placing.Keep }:
                    kept.Add($"{item.Target} was kept: it is another one{(wish.Existing == Existing.ReplaceOlder ? ", and not older" : "")}.");
                    break;
                case { Placing: Placing.Blocked }:
                    throw new IOException($"{item.Target} is no file on this host; nothing was put in its place.");
                default:
                    var target = item.Placing == Placing.Rename ? Placings.Free(item.Target, other => files.Find(other) is not null) : item.Target;
                    await WriteAsync(item with { Target = target }, body, cancel).ConfigureAwait(false);
                    putBytes += item.Entry.Bytes;
                    put.Add($"{target} {(item.Placing == Placing.Replace ? "was replaced" : "was put there")}: {Units.Bytes(item.Entry.Bytes)}, SHA-256 {Convert.ToHexStringLower(item.Entry.Sha256!)}.");
                    break;
            }
        }
        catch (Exception e) when (e is (IOException and not GoneException) or UnauthorizedAccessException)
        {
            troubles.Add(e.Message);
        }
    }

    private void PutLink(Item item)
    {
        var there = files.Find(item.Target);
        switch (there)
        {
            case null:
                changes.MakeLink(item.Target, item.Entry.Target!);
                put.Add($"{item.Target} was put there: a link to {item.Entry.Target}.");
                break;
            case { Kind: FileKind.Link } when there.Target == item.Entry.Target:
                same.Add($"{item.Target} was there as it was sent.");
                break;
            case { Kind: FileKind.Link or FileKind.File } when wish.Existing == Existing.Replace:
                changes.Delete(item.Target);
                changes.MakeLink(item.Target, item.Entry.Target!);
                put.Add($"{item.Target} was replaced: a link to {item.Entry.Target}.");
                break;
            default:
                kept.Add($"{item.Target} was kept: it is not the link to {item.Entry.Target}.");
                break;
        }
    }

    private async Task WriteAsync(Item item, ParcelReader body, CancellationToken cancel)
    {
        var entry = item.Entry;
        var version = Convert.ToHexStringLower(entry.Sha256!);
        using var sink = changes.Open(new FileWrite(
            item.Target, entry.Bytes, version, Replaces: item.Placing == Placing.Replace, KeepsOld: true, Mode: wish.Mode ?? entry.Mode, Owner: wish.Owner, Group: wish.Group, ChangedAt: entry.ChangedAt));
        try
        {
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            if (sink.Length > entry.Bytes)
            {
                sink.Cut(0);
            }
            var at = HashHeld(sink, hash, sink.Length);
            while (at < entry.Bytes)
            {
                var piece = buffer.AsMemory(0, (int)Math.Min(buffer.Length, entry.Bytes - at));
                await body.ReadAsync(item.At + at, piece, cancel).ConfigureAwait(false);
                Write(sink, hash, at, piece);
                at += piece.Length;
            }
            if (!hash.GetHashAndReset().AsSpan().SequenceEqual(entry.Sha256))
            {
                throw new IOException($"What arrived of {item.Target} is not what was sent; nothing of it is kept.");
            }
            sink.End();
        }
        catch (Exception e) when (e is not GoneException)
        {
            sink.Drop();
            throw;
        }
    }

    private static void Write(IFileSink sink, IncrementalHash hash, long at, ReadOnlyMemory<byte> piece)
    {
        hash.AppendData(piece.Span);
        for (var from = 0; from < piece.Length; from += HoleBytes)
        {
            var part = piece.Slice(from, Math.Min(HoleBytes, piece.Length - from));
            if (part.Length == HoleBytes && part.Span.SequenceEqual(Zeros))
            {
                sink.Skip(at + from + part.Length);
            }
            else
            {
                sink.Write(at + from, part);
            }
        }
    }

    /// <summary>What an earlier try left is gone on from.</summary>
    private long HashHeld(IFileSink sink, IncrementalHash hash, long length)
    {
        var from = 0L;
        while (from < length && sink.Read(from, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length - from))) is > 0 and var got)
        {
            hash.AppendData(buffer, 0, got);
            from += got;
        }
        return from;
    }

    private int Sum(FileName folder)
    {
        if (put.Count + same.Count + kept.Count + troubles.Count + folders != 1)
        {
            List<string> parts = [string.Create(CultureInfo.InvariantCulture, $"{put.Count} put into {folder} ({Units.Bytes(putBytes)})")];
            if (same.Count > 0)
            {
                parts.Add(string.Create(CultureInfo.InvariantCulture, $"{same.Count} there already"));
            }
            if (kept.Count > 0)
            {
                parts.Add(string.Create(CultureInfo.InvariantCulture, $"{kept.Count} kept"));
            }
            if (troubles.Count > 0)
            {
                parts.Add(string.Create(CultureInfo.InvariantCulture, $"{troubles.Count} in trouble"));
            }
            say.WriteLine(string.Join(", ", parts) + ".");
        }
        Tell(troubles);
        Tell(put);
        Tell(kept);
        Tell(same);
        return troubles.Count > 0 ? NotAll : Done;
    }

    private void Tell(List<string> lines)
    {
        foreach (var line in lines.Take(lines.Count > MostTold ? MostTold - 1 : MostTold))
        {
            say.WriteLine(TerminalText.Line(line));
        }
        if (lines.Count > MostTold)
        {
            say.WriteLine(string.Create(CultureInfo.InvariantCulture, $"… and {lines.Count - MostTold + 1} more like these."));
        }
    }

    private int Say(string line, int status)
    {
        say.WriteLine(TerminalText.Line(line));
        return status;
    }
}
