using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Files;

public sealed class PackChoiceTests
{
    private const int Chunk = 65_531;

    private readonly PackChoice choice = new();

    /// <summary>A megabyte goes over a line of so many bytes a second.</summary>
    private void Line(double bytesPerSecond) => choice.Sent(1 << 20, TimeSpan.FromSeconds((1 << 20) / bytesPerSecond));

    /// <summary>A chunk is packed to a share of its length, by one who packs 100 MB a second.</summary>
    private bool Pack(double share) => choice.Packed(Chunk, (int)(Chunk * share), TimeSpan.FromSeconds(Chunk / 100e6));

    [Fact]
    public void Of_a_line_that_is_not_known_the_worst_is_assumed()
    {
        choice.Line.ShouldBeNull();
        choice.IsWorth(Chunk).ShouldBeTrue();
        Pack(0.3).ShouldBeTrue();
        choice.IsWorth(Chunk).ShouldBeTrue();
    }

    [Fact]
    public void Chunks_of_a_few_bytes_are_left_alone() => choice.IsWorth(PackChoice.Least - 1).ShouldBeFalse();

    [Theory]
    [InlineData(1e6, true)]
    [InlineData(12.5e6, true)]
    [InlineData(50e6, true)]
    [InlineData(125e6, false)]
    [InlineData(1e9, false)]
    public void Packing_is_worth_it_where_the_line_is_slower_than_what_it_saves(double line, bool isWorth)
    {
        // 100 MB a second, two thirds of it saved: worth it below 67 MB a second.
        for (var n = 0; n < 8; n++)
        {
            Pack(1.0 / 3).ShouldBeTrue();
        }
        Line(line);
        choice.IsWorth(Chunk).ShouldBe(isWorth);
    }

    [Fact]
    public void A_line_that_becomes_slow_is_packed_for_and_one_that_becomes_fast_is_not()
    {
        Pack(0.3);
        Line(1e9);
        choice.IsWorth(Chunk).ShouldBeFalse();
        Line(2e6);
        choice.IsWorth(Chunk).ShouldBeTrue("a slow line counts at once");
        Line(1e9);
        for (var n = 0; n < 10 && choice.IsWorth(Chunk); n++)
        {
            Line(1e9);
        }
        choice.IsWorth(Chunk).ShouldBeFalse("a fast one counts when it stays so");
    }

    [Fact]
    public void Buffers_that_take_something_now_and_then_make_no_fast_line()
    {
        Pack(0.3);
        for (var n = 0; n < 20; n++)
        {
            Line(1e6);
            Line(100e6);
        }
        choice.IsWorth(Chunk).ShouldBeTrue();
    }

    [Fact]
    public void What_does_not_pack_is_tried_more_and_more_seldom_until_another_file_comes()
    {
        var tried = new List<int>();
        for (var n = 0; n < 300; n++)
        {
            if (choice.IsWorth(Chunk))
            {
                tried.Add(n);
                Pack(0.99).ShouldBeFalse();
            }
        }
        tried.ShouldBe([0, 2, 5, 10, 19, 36, 69, 134, 199, 264]);
        choice.Restart();
        choice.IsWorth(Chunk).ShouldBeTrue();
    }

    [Fact]
    public void Small_files_that_do_not_pack_are_not_each_tried()
    {
        var tried = 0;
        for (var file = 0; file < 1000; file++)
        {
            choice.Restart();
            if (choice.IsWorth(4096))
            {
                tried++;
                choice.Packed(4096, 4100, TimeSpan.FromMilliseconds(0.1)).ShouldBeFalse();
            }
        }
        tried.ShouldBeInRange(10, 80);
    }

    [Fact]
    public void A_file_that_packs_again_further_on_is_packed_again()
    {
        for (var n = 0; n < 40; n++)
        {
            if (choice.IsWorth(Chunk))
            {
                Pack(1);
            }
        }
        var passed = 0;
        while (!choice.IsWorth(Chunk))
        {
            passed++;
        }
        passed.ShouldBeLessThan(64);
        Pack(0.2).ShouldBeTrue();
        choice.IsWorth(Chunk).ShouldBeTrue();
    }

    [Fact]
    public void What_became_longer_goes_as_it_is() => choice.Packed(Chunk, Chunk + 20, TimeSpan.FromMilliseconds(1)).ShouldBeFalse();
}
