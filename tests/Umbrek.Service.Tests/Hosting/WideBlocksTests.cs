using System.Buffers;
using System.Net.Http.Headers;
using System.Security.Cryptography;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Tests.Hosting;

/// <summary>The blocks through which connections are read and written.</summary>
public sealed class WideBlocksTests
{
    [Fact]
    public void A_block_belongs_to_one_at_a_time_and_comes_again_once_it_is_given_back()
    {
        using var pool = new WideBlocks();
        using var kept = pool.Rent();
        var given = pool.Rent(100);
        given.Memory.Length.ShouldBe(WideBlocks.Size);
        AreOne(kept.Memory, given.Memory).ShouldBeFalse();
        var memory = given.Memory;
        given.Dispose();
        using var again = pool.Create().Rent();
        AreOne(again.Memory, memory).ShouldBeTrue();
    }

    [Fact]
    public void What_a_part_that_has_gone_gives_up_is_there_for_the_others()
    {
        using var pool = new WideBlocks();
        pool.Create().Dispose();
        using var block = pool.Rent();
        block.Memory.Span.Fill(7);
        block.Memory.Span.IndexOfAnyExcept((byte)7).ShouldBe(-1);
    }

    [Fact]
    public void One_that_is_given_back_twice_is_not_lent_to_two()
    {
        using var pool = new WideBlocks();
        var block = pool.Rent();
        block.Dispose();
        block.Dispose();
        using var one = pool.Rent();
        using var other = pool.Rent();
        AreOne(one.Memory, other.Memory).ShouldBeFalse();
    }

    [Fact]
    public void More_than_a_block_is_not_promised()
    {
        using var pool = new WideBlocks();
        pool.MaxBufferSize.ShouldBe(WideBlocks.Size);
        Should.Throw<ArgumentOutOfRangeException>(() => pool.Rent(WideBlocks.Size + 1));
    }

    [Fact]
    public async Task Many_who_fetch_at_once_each_get_their_own_bytes()
    {
        await using var service = await TestService.StartAsync();
        var made = await service.NewInstallerAsync(new NewInstaller(TestService.Group));
        using var http = new HttpClient { BaseAddress = service.Address };
        var path = $"/get/{made.Link.Split('/')[^1]}/agent";
        var whole = await http.GetByteArrayAsync(path);
        var parts = await Task.WhenAll(Enumerable.Range(0, 16).Select(async i =>
        {
            var (from, to) = (i * 1_000_003 % (whole.Length - 1_000_000), i * 1_000_003 % (whole.Length - 1_000_000) + 700_000 + i);
            using var request = new HttpRequestMessage(HttpMethod.Get, path) { Headers = { Range = new RangeHeaderValue(from, to) } };
            using var answer = await http.SendAsync(request);
            answer.Content.Headers.ContentRange!.ToString().ShouldBe($"bytes {from}-{to}/{whole.Length}");
            return (from, Bytes: await answer.Content.ReadAsByteArrayAsync());
        }));
        foreach (var (from, bytes) in parts)
        {
            SHA256.HashData(bytes).ShouldBe(SHA256.HashData(whole.AsSpan(from, bytes.Length)));
        }
    }

    private static bool AreOne(ReadOnlyMemory<byte> one, ReadOnlyMemory<byte> other) => one.Span.Overlaps(other.Span);
}
