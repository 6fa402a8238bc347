using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Umbrek.Agent.Files;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Files;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>A parcel comes to real files of this machine, from a store whose lines break.</summary>
public sealed class DeliveryTests : IDisposable
{
    private readonly TestDirectory place = new();
    private readonly TestDirectory own = new();
    private readonly Store store = new();
    private readonly StateDirectory state;

    public DeliveryTests()
    {
        state = new StateDirectory(own.Path);
        state.Create();
    }

    public void Dispose()
    {
        place.Dispose();
        own.Dispose();
    }

    [Fact]
    public async Task Files_folders_and_links_come_to_lie_as_they_were_sent()
    {
        var noise = RandomNumberGenerator.GetBytes(700_000);
        var hole = new byte[3_000_000];
        hole[^1] = 7;
        var at = new DateTimeOffset(2024, 3, 4, 5, 6, 7, TimeSpan.Zero);
        store.Put(("labels", null), ("labels/noise", noise), ("labels/hole", hole), ("labels/nothing", []), ("one", "one"u8.ToArray()));
        store.Entries[1] = store.Entries[1] with { Mode = 0x1a0, ChangedAt = at };
        store.Entries.Add(new ParcelEntry(new FileName("labels/link"), FileKind.Link, Target: new FileName("../one")));
        (await RunAsync()).ShouldBe((Delivery.Done, $"""
            5 put into {place.Path} (3.53 MiB).
            {place.In("labels/noise")} was put there: 684 KiB, SHA-256 {Hex(noise)}.
            {place.In("labels/hole")} was put there: 2.86 MiB, SHA-256 {Hex(hole)}.
            {place.In("labels/nothing")} was put there: 0 B, SHA-256 {Hex([])}.
            {place.In("one")} was put there: 3 B, SHA-256 {Hex("one"u8.ToArray())}.
            {place.In("labels/link")} was put there: a link to ../one.

            """));
        (await File.ReadAllBytesAsync(place.In("labels/noise"))).ShouldBe(noise);
        (await File.ReadAllBytesAsync(place.In("labels/hole"))).ShouldBe(hole);
        (File.GetUnixFileMode(place.In("labels/noise")), File.GetLastWriteTimeUtc(place.In("labels/noise"))).ShouldBe(((UnixFileMode)0x1a0, at.UtcDateTime));
        new FileInfo(place.In("labels/link")).LinkTarget.ShouldBe("../one");
        BytesOnDisk(place.In("labels/hole")).ShouldBeLessThan(1_000_000);
        // The same again moves nothing.
        var before = store.Sent;
        (await RunAsync()).Said.ShouldContain($"0 put into {place.Path} (0 B), 5 there already.");
        store.Sent.ShouldBe(before);
        Left().ShouldBeEmpty();
    }

    [Theory]
    [InlineData(Existing.Keep, "old", 0, "1 kept", "was kept: it is another one.")]
    [InlineData(Existing.Replace, "new", 0, "2 put", "was replaced: 3 B")]
    [InlineData(Existing.ReplaceOlder, "new", 0, "2 put", "was replaced: 3 B")]
    [InlineData(Existing.Rename, "old", 0, "2 put", "a (2).txt was put there: 3 B")]
    [InlineData(Existing.Ask, "old", Delivery.Asks, "Nothing was put there: 1 file is in the way.", "a.txt is there already, and is another one.")]
    public async Task What_is_in_the_way_goes_by_what_was_said(Existing way, string then, int status, string sum, string line)
    {
        store.Put(("a.txt", "new"u8.ToArray()), ("b.txt", "bee"u8.ToArray()));
        store.Entries[0] = store.Entries[0] with { ChangedAt = DateTimeOffset.UtcNow };
        await File.WriteAllTextAsync(place.In("a.txt"), "old");
        File.SetLastWriteTimeUtc(place.In("a.txt"), DateTime.UtcNow.AddDays(-1));
        var (ended, said) = await RunAsync(w => w with { Existing = way });
        (ended, await File.ReadAllTextAsync(place.In("a.txt"))).ShouldBe((status, then), said);
        said.ShouldContain(sum);
        said.ShouldContain(line);
        // Whoever is to be asked finds everything as it was.
        File.Exists(place.In("b.txt")).ShouldBe(way != Existing.Ask);
        if (way == Existing.Rename)
        {
            (await File.ReadAllTextAsync(place.In("a (2).txt"))).ShouldBe("new");
        }
        if (way is Existing.Replace or Existing.ReplaceOlder)
        {
            // The old one can be put back.
            Directory.GetFiles(Path.Combine(state.Trash, "files")).Select(File.ReadAllText).ShouldBe(["old"]);
        }
    }

    [Fact]
    public async Task A_line_that_breaks_again_and_again_brings_it_whole_and_sends_nothing_twice()
    {
        var noise = RandomNumberGenerator.GetBytes(900_000);
        store.Put(("a", noise[..300_000]), ("b", noise[300_000..600_000]), ("c", noise[600_000..]));
        var random = new Random(7);
        store.CutAfter = () => random.Next(1, 90_000);
        (await RunAsync()).Status.ShouldBe(Delivery.Done);
        ((byte[])[.. await File.ReadAllBytesAsync(place.In("a")), .. await File.ReadAllBytesAsync(place.In("b")), .. await File.ReadAllBytesAsync(place.In("c"))]).ShouldBe(noise);
        store.Opened.ShouldBeGreaterThan(10);
        store.Sent.ShouldBeLessThan(noise.Length + 64 * 1024);
    }

    [Fact]
    public async Task What_a_killed_one_left_is_gone_on_from()
    {
        var noise = RandomNumberGenerator.GetBytes(600_000);
        store.Put(("large", noise));
        var ledger = new PartLedger(state.PartsFile, TimeProvider.System);
        var write = new FileWrite(new FileName(place.In("large")), noise.Length, Hex(noise));
        using (var half = new LinuxFileChanges(state, ledger, TimeProvider.System).Open(write))
        {
            half.Write(0, noise.AsMemory(0, 400_000));
        }
        (await RunAsync()).Status.ShouldBe(Delivery.Done);
        (await File.ReadAllBytesAsync(place.In("large"))).ShouldBe(noise);
        store.Sent.ShouldBe(200_000);
        Left().ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_not_what_was_ordered_is_not_put_anywhere()
    {
        store.Put(("a", "one"u8.ToArray()));
        (await RunAsync(w => w with { Files = 2 })).ShouldBe((Delivery.Nothing, "The list of what is to be put here is not what was ordered; nothing was put anywhere.\n"));
        (await RunAsync(w => w with { Digest = new string('0', 64) }, served: w => w)).Said.ShouldContain("does not keep these files");
        (await RunAsync(served: text => [.. text, (byte)' '])).Said.ShouldBe("What the service sends is not what was ordered; nothing was put anywhere.\n");
        // The body is another one than the list says.
        store.Body = "two"u8.ToArray();
        (await RunAsync()).ShouldBe((Delivery.NotAll, $"What arrived of {place.In("a")} is not what was sent; nothing of it is kept.\n"));
        Left().ShouldBeEmpty();
        File.Exists(place.In("a")).ShouldBeFalse();
    }

    [Fact]
    public async Task Trouble_with_one_leaves_the_others_and_may_end_it()
    {
        store.Put(("a", "one"u8.ToArray()), ("b", "two"u8.ToArray()), ("c", "three"u8.ToArray()));
        Directory.CreateDirectory(place.In("b"));
        var (status, said) = await RunAsync();
        (status, File.Exists(place.In("c"))).ShouldBe((Delivery.NotAll, true), said);
        said.ShouldContain($"{place.In("b")} is no file on this host; nothing was put in its place.");
        said.ShouldContain("2 put into");
        said.ShouldContain("1 in trouble.");
        File.Delete(place.In("c"));
        (status, said) = await RunAsync(w => w with { StopsAtError = true });
        (status, File.Exists(place.In("c"))).ShouldBe((Delivery.NotAll, false), said);
        said.ShouldContain("The rest was not tried.");
    }

    [Fact]
    public async Task A_folder_is_made_only_where_that_was_said_and_nothing_leaves_the_roots()
    {
        store.Put(("a", "one"u8.ToArray()));
        var deep = new FileName(place.In("not/there"));
        (await RunAsync(folder: deep)).ShouldBe((Delivery.Nothing, $"There is no folder {deep} on this host; nothing was put anywhere.\n"));
        (await RunAsync(folder: deep, makes: true)).Status.ShouldBe(Delivery.Done);
        // A root itself, and a folder that is made below it.
        (await RunAsync(roots: [place.Path])).Status.ShouldBe(Delivery.Done);
        (await RunAsync(folder: new FileName(place.In("new/one")), makes: true, roots: [place.Path])).Status.ShouldBe(Delivery.Done);
        Directory.Delete(place.In("new"), recursive: true);
        (await File.ReadAllTextAsync(place.In("not/there/a"))).ShouldBe("one");
        // A link of somebody's leads out of what technicians are let into.
        Directory.CreateDirectory(place.In("in"));
        File.CreateSymbolicLink(place.In("in/out"), place.In("not"));
        var (status, said) = await RunAsync(folder: new FileName(place.In("in/out")), roots: [place.In("in")]);
        (status, said.Contains("does not lie in what this host lets technicians into", StringComparison.Ordinal)).ShouldBe((Delivery.Nothing, true), said);
        Directory.GetFileSystemEntries(place.In("not")).ShouldBe([place.In("not/there")]);
    }

    [Fact]
    public async Task A_stop_leaves_nothing_half_written()
    {
        store.Put(("large", RandomNumberGenerator.GetBytes(5_000_000)));
        using var stop = new CancellationTokenSource();
        store.Reading = sent =>
        {
            if (sent > 1_000_000)
            {
                stop.Cancel();
            }
        };
        await Should.ThrowAsync<OperationCanceledException>(() => RunAsync(cancel: stop.Token));
        Directory.GetFileSystemEntries(place.Path).ShouldBeEmpty();
    }

    [Fact]
    public async Task Many_equal_lines_are_told_as_one()
    {
        store.Put([.. Enumerable.Range(100, 50).Select(i => ($"file-{i}", (byte[]?)Encoding.UTF8.GetBytes($"{i}")))]);
        var (_, said) = await RunAsync();
        said.Split('\n').Length.ShouldBe(22);
        said.ShouldStartWith("50 put into");
        said.ShouldEndWith("… and 31 more like these.\n");
    }

    private static string Hex(byte[] content) => Convert.ToHexStringLower(SHA256.HashData(content));

    private static long BytesOnDisk(string path)
    {
        using var stat = Process.Start(new ProcessStartInfo("stat", ["-c", "%b", path]) { RedirectStandardOutput = true })!;
        return 512 * long.Parse(stat.StandardOutput.ReadToEnd(), CultureInfo.InvariantCulture);
    }

    private string[] Left() => Directory.GetFiles(place.Path, ".*.part", SearchOption.AllDirectories);

    private async Task<(int Status, string Said)> RunAsync(
        Func<DeliverFiles, DeliverFiles>? change = null, Func<byte[], byte[]>? served = null, FileName? folder = null, bool makes = false, IReadOnlyList<string>? roots = null, CancellationToken cancel = default)
    {
        var wish = store.Close(served);
        wish = change?.Invoke(wish) ?? wish;
        var say = new StringWriter();
        var ledger = new PartLedger(state.PartsFile, TimeProvider.System);
        var status = await new Delivery(wish, store, new LinuxFiles(roots), new LinuxFileChanges(state, ledger, TimeProvider.System, roots), say, TimeProvider.System).RunAsync(folder ?? new FileName(place.Path), makes, cancel);
        return (status, say.ToString());
    }

    /// <summary>Keeps one parcel.</summary>
    private sealed class Store : IParcelSource
    {
        private byte[] list = [];
        private string digest = "";

        public List<ParcelEntry> Entries { get; } = [];

        public byte[] Body { get; set; } = [];

        public Func<int>? CutAfter { get; set; }

        public Action<long>? Reading { get; set; }

        public int Opened { get; private set; }

        /// <summary>Bytes of the body that were read.</summary>
        public long Sent { get; private set; }

        public void Put(params (string Path, byte[]? Content)[] things)
        {
            foreach (var (path, content) in things)
            {
                Entries.Add(content is null ? new ParcelEntry(new FileName(path), FileKind.Folder) : new ParcelEntry(new FileName(path), FileKind.File, content.Length, Sha256: SHA256.HashData(content)));
                Body = [.. Body, .. content ?? []];
            }
        }

        public DeliverFiles Close(Func<byte[], byte[]>? served)
        {
            var head = new ParcelHead(ParcelHead.Version, new string('b', 64), Body.Length, Entries.Count);
            list = Encoding.UTF8.GetBytes(string.Concat(Entries.Select(e => JsonSerializer.Serialize(e, LinkJson.Default.ParcelEntry) + "\n").Prepend(JsonSerializer.Serialize(head, LinkJson.Default.ParcelHead) + "\n")));
            digest = Convert.ToHexStringLower(SHA256.HashData(list));
            list = served?.Invoke(list) ?? list;
            return new DeliverFiles(digest, Parcel.Name(Entries), Entries.Count(e => e.Kind == FileKind.File), Entries.Sum(e => e.Bytes), new FileName("/"), Existing: Existing.Ask);
        }

        public Task<Stream> OpenAsync(string sha256, long from, CancellationToken cancel)
        {
            if (sha256 == digest)
            {
                return Task.FromResult<Stream>(new MemoryStream(list));
            }
            if (sha256 != new string('b', 64))
            {
                throw new GoneException("The service does not keep these files for this host any more.");
            }
            Opened++;
            return Task.FromResult<Stream>(new Line(this, from, CutAfter?.Invoke() ?? int.MaxValue));
        }

        private sealed class Line(Store store, long from, int left) : MemoryStream
        {
            private long at = from;
            private int left = left;

            public override ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
            {
                cancellationToken.ThrowIfCancellationRequested();
                if (left == 0)
                {
                    throw new IOException("cut");
                }
                var got = (int)Math.Min(Math.Min(buffer.Length, 40_000), Math.Min(left, store.Body.Length - at));
                store.Body.AsSpan((int)at, got).CopyTo(buffer.Span);
                (at, left) = (at + got, left - got);
                store.Sent += got;
                store.Reading?.Invoke(store.Sent);
                return ValueTask.FromResult(got);
            }
        }
    }
}
