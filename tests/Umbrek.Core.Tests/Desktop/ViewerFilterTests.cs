using System.Buffers.Binary;
using System.Text;
using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

/// <summary>What a viewer does goes through as long as he may act, and what he asks for always does.</summary>
public sealed class ViewerFilterTests
{
    private static readonly byte[] Greeting = [.. "RFB 003.008\n"u8, 1, 1];
    private static readonly byte[] Asks = [RfbMessage.UpdateRequest, 1, 0, 0, 0, 0, 5, 0, 4, 0];
    private static readonly byte[] Fence = [RfbMessage.Fence, 0, 0, 0, 0x80, 0, 0, 0, 2, 7, 7];
    private static readonly byte[] Text = [RfbMessage.ClientCutText, 0, 0, 0, 0, 0, 0, 3, .. "ebb"u8];
    private static readonly byte[] Resize = [RfbMessage.SetDesktopSize, 0, 3, 0, 2, 0, 0, 0];

    private static byte[] Key(bool down, uint sym)
    {
        var word = new byte[8];
        (word[0], word[1]) = (RfbMessage.Key, (byte)(down ? 1 : 0));
        BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(4), sym);
        return word;
    }

    private static byte[] PlaceKey(bool down, uint sym, uint code)
    {
        var word = new byte[12];
        (word[0], word[3]) = (RfbMessage.Qemu, (byte)(down ? 1 : 0));
        BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(4), sym);
        BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(8), code);
        return word;
    }

    private static byte[] Mouse(byte x, byte y, byte buttons) => [RfbMessage.Mouse, buttons, 0, x, 0, y];

    private static async Task<byte[]> PassAsync(ViewerFilter filter, byte[] bytes, int piece)
    {
        var through = new List<byte>();
        for (var at = 0; at < bytes.Length; at += piece)
        {
            await filter.PassAsync(bytes.AsMemory(at, Math.Min(piece, bytes.Length - at)), part =>
            {
                through.AddRange(part.Span);
                return Task.CompletedTask;
            });
        }
        return [.. through];
    }

    [Theory]
    [InlineData(1)]
    [InlineData(3)]
    [InlineData(7)]
    [InlineData(1000)]
    public async Task Cut_anywhere_it_is_the_same(int piece)
    {
        byte[] all = [.. Greeting, .. Asks, .. Key(true, 'a'), .. Mouse(9, 8, 1), .. Fence, .. Text, .. Resize, .. Key(false, 'a'), .. Asks];
        (await PassAsync(new ViewerFilter(), all, piece)).ShouldBe(all);
        (await PassAsync(new ViewerFilter { MayAct = false }, all, piece)).ShouldBe([.. Greeting, .. Asks, .. Fence, .. Asks]);
        var old = Encoding.ASCII.GetBytes("RFB 003.003\n");
        (await PassAsync(new ViewerFilter { MayAct = false }, [.. old, 1, .. Key(true, 'a'), .. Fence], piece)).ShouldBe([.. old, 1, .. Fence]);
    }

    [Fact]
    public async Task What_is_held_is_let_go_and_only_that()
    {
        var filter = new ViewerFilter();
        var acts = 0;
        filter.Acted += () => acts++;
        await PassAsync(filter, [.. Greeting, .. Key(true, 'a'), .. Key(true, 'b'), .. Key(false, 'a'), .. PlaceKey(true, 0xFFE3, 29), .. Mouse(9, 8, 4), .. Asks], 5);
        acts.ShouldBe(5);
        filter.MayAct = false;
        filter.LetGo().ShouldBe([.. Key(false, 'b'), .. PlaceKey(false, 0xFFE3, 29), .. Mouse(9, 8, 0)]);
        filter.LetGo().ShouldBeEmpty();
        // Presses that did not go through are not held, and their release goes nowhere.
        (await PassAsync(filter, [.. Key(true, 'c'), .. Mouse(1, 1, 1), .. Key(false, 'c')], 4)).ShouldBeEmpty();
        filter.LetGo().ShouldBeEmpty();
        acts.ShouldBe(5);
    }

    [Fact]
    public async Task Another_screen_begins_anew()
    {
        var filter = new ViewerFilter();
        await PassAsync(filter, [.. Greeting, .. Key(true, 'a'), RfbMessage.Key, 1], 100);
        filter.Begin();
        filter.LetGo().ShouldBeEmpty();
        (await PassAsync(filter, [.. Greeting, .. Asks], 6)).ShouldBe([.. Greeting, .. Asks]);
        await Should.ThrowAsync<RfbException>(() => PassAsync(filter, [77], 1));
    }
}
