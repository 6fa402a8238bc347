using System.Security.Cryptography;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>Of one version of a file only what differs goes to where another is, over real channels.</summary>
public sealed class FileComparerTests : IAsyncLifetime
{
    private const long Seed = 7;

    private FileLine line = null!;

    public async ValueTask InitializeAsync() => line = await FileLine.OpenAsync();

    public ValueTask DisposeAsync() => line.DisposeAsync();

    private string In(string name) => line.Directory.In(name);

    [Fact]
    public async Task A_hash_comes_without_the_content()
    {
        var bytes = RandomNumberGenerator.GetBytes(700_000);
        await File.WriteAllBytesAsync(In("file"), bytes);
        var (words, data) = await line.AskAsync(new FileAsk(Hash: line.At("file")));
        data.ShouldBeEmpty();
        words.ShouldHaveSingleItem().Sha256.ShouldBe(SHA256.HashData(bytes));
        (await line.ProblemAsync(new FileAsk(Hash: line.At("none")))).ShouldContain("There is no");
        line.Run("mkfifo pipe");
        (await line.ProblemAsync(new FileAsk(Hash: line.At("pipe")))).ShouldContain("pipe");
    }

    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(4096)]
    [InlineData(1_000_001)]
    public async Task Of_each_block_as_much_is_said_as_finds_it_again(int length)
    {
        var bytes = RandomNumberGenerator.GetBytes(length);
        await File.WriteAllBytesAsync(In("file"), bytes);
        var (words, sums) = await line.AskAsync(new FileAsk(Blocks: new FileBlocks(line.At("file"), 4096, Seed)));
        (words[0].Entry!.Bytes, words[^1].Changed).ShouldBe((length, false));
        var expected = new byte[BlockSums.LengthOf(length, 4096)];
        for (var (at, into) = (0, 0); at < length; at += 4096, into += BlockSums.EntryBytes)
        {
            BlockSums.Write(bytes.AsSpan(at, Math.Min(4096, length - at)), Seed, expected.AsSpan(into));
        }
        sums.ShouldBe(expected);
    }

    [Fact]
    public async Task A_new_version_is_put_together_of_the_old_one_and_what_differs()
    {
        var old = RandomNumberGenerator.GetBytes(3_000_000);
        byte[] now = [.. old[..1_000_000], .. RandomNumberGenerator.GetBytes(5000), .. new byte[200_000], .. old[1_500_000..]];
        await File.WriteAllBytesAsync(In("old"), old);
        await File.WriteAllBytesAsync(In("new"), now);
        var literal = await StepAsync("new", "old");
        (await File.ReadAllBytesAsync(In("old"))).ShouldBe(now);
        literal.ShouldBeLessThan(5000 + 6 * 4096);
        Directory.GetFileSystemEntries(line.Directory.Path).Length.ShouldBe(2);
    }

    [Fact]
    public async Task The_same_version_costs_no_bytes_and_holes_stay_holes()
    {
        line.Run("truncate -s 40M old; printf end >>old; cp --sparse=always old new");
        (await StepAsync("new", "old")).ShouldBe(0);
        line.Run("cmp old new; [ $(stat -c %b old) -lt 1000 ]");
    }

    [Fact]
    public async Task Nothing_is_written_on_another_base_than_was_meant()
    {
        await File.WriteAllTextAsync(In("file"), "some text");
        var version = await VersionAsync("file");
        await File.AppendAllTextAsync(In("file"), ", and more");
        line.Begin(changes: true);
        var (words, _) = await line.SendAsync(new FileWrite(line.At("file"), 9, "1", Replaces: true, Base: version), new FileEnd([1]));
        (words[0].Differs, words[0].Problem!.Contains("changed by somebody meanwhile", StringComparison.Ordinal)).ShouldBe((true, true));
        (await File.ReadAllTextAsync(In("file"))).ShouldBe("some text, and more");
        Directory.GetFileSystemEntries(line.Directory.Path).Length.ShouldBe(1);
    }

    [Fact]
    public async Task What_is_copied_stays_within_what_there_is_and_what_was_said()
    {
        await File.WriteAllTextAsync(In("file"), "0123456789");
        var version = await VersionAsync("file");
        line.Begin(changes: true);
        (await CopyAsync(new FileWrite(line.At("file"), 20, "1", Replaces: true, Base: version), new FileSpan(5, 10))).ShouldContain("became shorter");
        (await CopyAsync(new FileWrite(line.At("file"), 5, "2", Replaces: true, Base: version), new FileSpan(0, 6))).ShouldContain("More of");
        (await CopyAsync(new FileWrite(line.At("file"), 5, "3", Replaces: true), new FileSpan(0, 5))).ShouldContain("not written on the base");
        (await File.ReadAllTextAsync(In("file"))).ShouldBe("0123456789");
        Directory.GetFileSystemEntries(line.Directory.Path).Length.ShouldBe(1);
    }

    [Fact]
    public async Task A_channel_does_what_it_is_for()
    {
        await File.WriteAllTextAsync(In("file"), "text");
        (await line.ProblemAsync(new FileAsk(Copy: new FileSpan(0, 1)))).ShouldContain("for looking and reading");
        line.Begin(changes: true);
        foreach (var ask in new[] { new FileAsk(Hash: line.At("file")), new FileAsk(Blocks: new FileBlocks(line.At("file"), 4096, Seed)), new FileAsk(Delta: new FileDelta(line.At("file"), 4096, Seed, 0)) })
        {
            (await line.ProblemAsync(ask)).ShouldContain("for changes");
        }
    }

    [Fact]
    public async Task Roots_hold_for_what_is_compared_too()
    {
        line.Run("mkdir in out; printf secret >out/file; ln -s ../out/file in/link");
        line.Begin(changes: false, [In("in")]);
        (await line.ProblemAsync(new FileAsk(Hash: line.At("in/link")))).ShouldNotBeEmpty();
        (await line.ProblemAsync(new FileAsk(Blocks: new FileBlocks(line.At("out/file"), 4096, Seed)))).ShouldNotBeEmpty();
        (await line.ProblemAsync(new FileAsk(Delta: new FileDelta(line.At("in/../out/file"), 4096, Seed, 0)))).ShouldNotBeEmpty();
    }

    [Theory]
    [InlineData(1000, 0)]
    [InlineData(3 << 20, 0)]
    [InlineData(4096, -1)]
    public async Task Blocks_have_a_sensible_length(int size, long bytes) => (await line.ProblemAsync(new FileAsk(Delta: new FileDelta(new FileName("/a"), size, Seed, bytes)))).ShouldNotBeEmpty();

    [Fact]
    public async Task More_blocks_than_anybody_keeps_in_mind_are_refused()
    {
        line.Run("truncate -s 4G huge");
        (await line.ProblemAsync(new FileAsk(Blocks: new FileBlocks(line.At("huge"), 1024, Seed)))).ShouldContain("longer ones");
    }

    /// <summary>Brings one file to what another is, as the service does between two hosts.</summary>
    /// <returns>How many bytes of it went over.</returns>
    private async Task<long> StepAsync(string from, string to)
    {
        const int size = 4096;
        var (words, sums) = await line.AskAsync(new FileAsk(Blocks: new FileBlocks(line.At(to), size, Seed)));
        var there = words[0].Entry!;
        var parts = await line.DeltaAsync(new FileDelta(line.At(from), size, Seed, there.Bytes), sums);
        var entry = parts.OfType<FileWord>().First().Entry!;
        line.Begin(changes: true);
        await line.PutAsync(new FileWrite(line.At(to), entry.Bytes, "1", Replaces: true, Expects: there.Version, Base: there.Version), parts);
        return parts.OfType<byte[]>().Sum(p => (long)p.Length);
    }

    private async Task<string> VersionAsync(string name) => (await line.AskAsync(new FileAsk(Look: line.At(name)))).Words[0].Entry!.Version!;

    private async Task<string> CopyAsync(FileWrite write, FileSpan span) => (await line.PutAsync(write, [new FileWord(Same: span), new FileWord(Sha256: [1], Done: true)])).Problem!;
}
