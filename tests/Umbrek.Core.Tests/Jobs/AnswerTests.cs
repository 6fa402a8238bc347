using System.Text;
using CsCheck;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;

namespace Umbrek.Core.Tests.Jobs;

public sealed class AnswerTests
{
    private static readonly string[] Words = ["10.0.0.1", "quay-ticket-01", "12:30:00", "\n", " ", "a", "7", ":", "é", "\u00ff", "2026-11-25"];

    [Theory]
    [InlineData("up since 2026-11-25 14:55:29", "up since 2025-01-02 03:04:05", AnswerMask.Times)]
    [InlineData("2026-11-25T14:55:29.123Z started", "2026-11-26T01:02:03.4Z started", AnswerMask.Times)]
    [InlineData("2026-11-25T14:55:29+01:00 x", "2026-11-26T01:02:03+02:00 x", AnswerMask.Times)]
    [InlineData("Thu Nov 26 14:55:29 UTC 2026", "Fri Jan  1 04:05:06 UTC 2027", AnswerMask.Times)]
    [InlineData("Nov 26 14:55:29 sshd: hello", "Dec  1 00:00:00 sshd: hello", AnswerMask.Times)]
    [InlineData("Date: Thu, 26 Nov 2026 14:55:29 +0000", "Date: Tue, 1 Dec 2026 04:05:29 +0100", AnswerMask.Times)]
    [InlineData("at 14:55 sharp", "at 4:05 sharp", AnswerMask.Times)]
    [InlineData("25.11.2026 14:55", "01.02.2025 04:05", AnswerMask.Times)]
    [InlineData("inet 10.0.0.7/24 brd", "inet 192.168.12.250/24 brd", AnswerMask.Addresses)]
    [InlineData("listens on 10.0.0.7:443", "listens on 10.0.0.8:443", AnswerMask.Addresses)]
    [InlineData("inet6 fe80::1/64", "inet6 2001:db8::8a2e:370:7334/64", AnswerMask.Addresses)]
    [InlineData("ether 02:00:5e:10:00:01 up", "ether aa:bb:cc:dd:ee:ff up", AnswerMask.Addresses)]
    [InlineData("local ::1 end", "local fe80::2 end", AnswerMask.Addresses)]
    [InlineData("from 1:2:3:4:5:6:7:8 to", "from ::ffff:192.0.2.7 to", AnswerMask.Addresses)]
    [InlineData("any ::, or", "any 2001:db8::, or", AnswerMask.Addresses)]
    [InlineData("/dev/sda1   77% 4.0K  /", "/dev/sda1  7% 123.5K  /", AnswerMask.Numbers)]
    [InlineData("id 6f9619ff-8b86-d011-b42d-00cf4fc964ff!", "id 00000000-8b86-d011-b42d-00cf4fc964ff!", AnswerMask.Numbers)]
    [InlineData("commit 9fceb02d0ae5", "commit 1ceb02d0ae98765", AnswerMask.Numbers)]
    [InlineData("at 0x7fff12 now", "at 0x1 now", AnswerMask.Numbers)]
    public void What_is_passed_over_does_not_tell_answers_apart(string one, string other, AnswerMask mask)
    {
        Mark(one, mask).Like.ShouldBe(Mark(other, mask).Like);
        Mark(one, AnswerMask.None).Like.ShouldNotBe(Mark(other, AnswerMask.None).Like);
        // Each kind by itself: nothing else passes it over.
        Mark(one, ~mask & (AnswerMask.Times | AnswerMask.Names | AnswerMask.Addresses)).Like.ShouldNotBe(Mark(other, ~mask & (AnswerMask.Times | AnswerMask.Names | AnswerMask.Addresses)).Like);
    }

    [Theory]
    [InlineData("ext4 on sda1", "ext3 on sda2")]
    [InlineData("x86_64", "x86_32")]
    [InlineData("version v2", "version v3")]
    [InlineData("Monday", "Tuesday")]
    [InlineData("May I", "Jun I")]
    [InlineData("std::dead", "std::beef")]
    [InlineData("a b", "ab")]
    [InlineData("active", "inactive")]
    [InlineData("abcde::1 x", "abcdf::1 x")]
    [InlineData("a:b:c d", "a:b:d d")]
    [InlineData("fade:dead:beef cafe", "fade:dead:beed cafe")]
    public void What_has_no_such_form_stays(string one, string other)
    {
        const AnswerMask all = AnswerMask.Times | AnswerMask.Names | AnswerMask.Addresses | AnswerMask.Numbers;
        Mark(one, all).Like.ShouldNotBe(Mark(other, all).Like);
    }

    [Fact]
    public void A_host_is_known_by_each_of_its_names_as_whole_words()
    {
        AnswerMark Of(string text, params string[] names) => Mark(text, AnswerMask.Names, names);
        Of("Quay-Ticket-01.example: ready", "quay-ticket-01.example", "Ticket desk, left").Like.ShouldBe(Of("quay-ticket-02: ready", "quay-ticket-02").Like);
        Of("this is Ticket desk, left", "quay-ticket-01", "Ticket desk, left").Like.ShouldBe(Of("this is quay-ticket-02", "quay-ticket-02").Like);
        Of("quay-ticket-011: ready", "quay-ticket-01").Like.ShouldNotBe(Of("quay-ticket-02: ready", "quay-ticket-02").Like);
    }

    [Fact]
    public void Numbers_of_another_width_move_columns_and_nothing_else()
    {
        Mark("Mem:   7812   312\n", AnswerMask.Numbers).Like.ShouldBe(Mark("Mem:  12  31112", AnswerMask.Numbers).Like);
        Mark("Mem: 1", AnswerMask.Numbers).Like.ShouldNotBe(Mark("Mem: 1\nSwap: 2", AnswerMask.Numbers).Like);
        Mark("1 k", AnswerMask.Numbers).Like.ShouldNotBe(Mark("1 M", AnswerMask.Numbers).Like);
    }

    [Fact]
    public void Bytes_that_are_no_text_count_and_cant_pass_for_what_is_passed_over()
    {
        byte[] forged = [0xff, (byte)'n'];
        Mark(forged, AnswerMask.Numbers).Like.ShouldNotBe(Mark("1"u8.ToArray(), AnswerMask.Numbers).Like);
        Mark([0, 1, 2, 0xfe], AnswerMasks.Usual).Like.ShouldNotBe(Mark([0, 1, 3, 0xfe], AnswerMasks.Usual).Like);
    }

    [Fact]
    public void The_two_streams_are_told_apart()
    {
        using var digest = new AnswerDigest(AnswerMasks.Usual);
        digest.Begin([]);
        digest.Add(RunEventKind.Stdout, "word\n"u8);
        var first = digest.End();
        digest.Begin([]);
        digest.Add(RunEventKind.Stderr, "word\n"u8);
        var second = digest.End();
        second.Like.ShouldNotBe(first.Like);
        second.Exact.ShouldNotBe(first.Exact);
        (first.Lines, first.Bytes).ShouldBe((1, 5));
    }

    [Fact]
    public void It_does_not_matter_where_output_was_cut_on_its_way() =>
        Gen.Select(Gen.Int[0, Words.Length - 1].Select(i => Words[i]).Array[0, 60], Gen.Int[1, 9], Gen.Enum<AnswerMask>()).Sample((words, step, mask) =>
        {
            var bytes = Encoding.UTF8.GetBytes(string.Concat(words));
            using var digest = new AnswerDigest(mask);
            digest.Begin(["quay-ticket-01"]);
            for (var i = 0; i < bytes.Length; i += step)
            {
                digest.Add(RunEventKind.Stdout, bytes.AsSpan(i, Math.Min(step, bytes.Length - i)));
            }
            digest.End().ShouldBe(Mark(bytes, mask, "quay-ticket-01"));
        });

    [Fact]
    public void Masking_never_outgrows_its_room() =>
        Gen.Select(Gen.Byte.Array[0, 200], Gen.Enum<AnswerMask>()).Sample((line, mask) =>
        {
            var room = new byte[LineMasker.Most(line.Length)];
            new LineMasker(mask | AnswerMask.Numbers, ["aa", "b1"]).Mask(line, room).ShouldBeLessThanOrEqualTo(room.Length);
        });

    [Fact]
    public void Lines_without_an_end_are_read_to_theirs()
    {
        var line = new string('x', 100_000) + " 10.0.0.1";
        Mark(line, AnswerMask.Addresses).Like.ShouldBe(Mark(line[..^1] + "2", AnswerMask.Addresses).Like);
        Mark(line, AnswerMask.Addresses).Like.ShouldNotBe(Mark("y" + line[1..], AnswerMask.Addresses).Like);
        Mark(line, AnswerMask.Addresses).Lines.ShouldBe(1);
    }

    [Fact]
    public void The_odd_ones_come_first_and_trouble_before_the_rest()
    {
        Answer Of(string host, string text, RunState state = RunState.Succeeded, int? exit = 0, string? reason = null) =>
            new(Guid.NewGuid(), host, state, exit, reason, Mark(text, AnswerMask.Names, host));
        var folds = AnswerFold.Fold(
        [
            Of("bb", "same bb"), Of("aa", "same aa"), Of("cc", "same cc"), Of("odd", "other"), Of("late", "same late", RunState.Failed, 3), Of("gone", "", RunState.Refused, null, "not allowed"), Of("away", "", RunState.Refused, null, "no key"),
        ]);
        folds.Select(f => string.Join(' ', f.Answers.Select(a => a.HostLabel))).ShouldBe(["away", "gone", "late", "odd", "aa bb cc"], ignoreOrder: false);
        folds[^1].Variants.ShouldBe(3);
        folds[0].Variants.ShouldBe(1);
    }

    [Fact]
    public void A_comparison_shows_what_only_one_host_said()
    {
        var lines = AnswerDifference.Compare("one\nkernel 6.1.0-26 on quay-ticket-01\nthree\n"u8, ["quay-ticket-01"], "one\nkernel 6.1.0-25 on quay-ticket-02\nthree\nfour"u8, ["quay-ticket-02"], AnswerMasks.Usual);
        lines.Select(l => (l.Kind, l.First, l.Second, l.Text)).ShouldBe(
        [
            (DifferenceKind.Same, 1, 1, "one"),
            (DifferenceKind.OnlyFirst, 2, null, "kernel 6.1.0-26 on quay-ticket-01"),
            (DifferenceKind.OnlySecond, null, 2, "kernel 6.1.0-25 on quay-ticket-02"),
            (DifferenceKind.Same, 3, 3, "three"),
            (DifferenceKind.OnlySecond, null, 4, "four"),
        ]);
        lines[1].Text[lines[1].From!.Value..lines[1].To!.Value].ShouldBe("26 on quay-ticket-01");
        AnswerDifference.Compare("kernel 6.1.0-26 on quay-ticket-01"u8, ["quay-ticket-01"], "kernel 6.1.0-26 on quay-ticket-02"u8, ["quay-ticket-02"], AnswerMasks.Usual).ShouldHaveSingleItem().Kind.ShouldBe(DifferenceKind.Same);
    }

    [Fact]
    public void A_comparison_is_both_texts_and_as_short_as_can_be() =>
        Gen.Select(Gen.Int[0, 3].Array[0, 14], Gen.Int[0, 3].Array[0, 14]).Sample((a, b) =>
        {
            var steps = LineDifference.Compare(a, b);
            steps.Where(s => s.Kind != DifferenceKind.OnlySecond).Select(s => s.First).ShouldBe(Enumerable.Range(0, a.Length));
            steps.Where(s => s.Kind != DifferenceKind.OnlyFirst).Select(s => s.Second).ShouldBe(Enumerable.Range(0, b.Length));
            steps.Where(s => s.Kind == DifferenceKind.Same).ShouldAllBe(s => a[s.First] == b[s.Second]);
            steps.Count(s => s.Kind == DifferenceKind.Same).ShouldBe(LongestCommon(a, b));
        });

    [Fact]
    public void Texts_far_apart_are_compared_as_a_whole()
    {
        var a = Enumerable.Range(0, 5000).ToArray();
        var b = Enumerable.Range(10_000, 5000).ToArray();
        var steps = LineDifference.Compare([-1, .. a], [-1, .. b]);
        steps.Count(s => s.Kind == DifferenceKind.Same).ShouldBe(1);
        steps.Count.ShouldBe(10_001);
    }

    [Theory]
    [InlineData("times, names", AnswerMask.Times | AnswerMask.Names)]
    [InlineData("nothing", AnswerMask.None)]
    [InlineData("Numbers", AnswerMask.Numbers)]
    public void What_to_pass_over_is_written_in_words(string text, AnswerMask mask)
    {
        AnswerMasks.Parse(text, out _).ShouldBe(mask);
        AnswerMasks.Parse(mask.Write(), out _).ShouldBe(mask);
        AnswerMasks.Parse("colours", out var problem).ShouldBeNull();
        problem.ShouldContain("times, names, addresses, numbers");
    }

    private static AnswerMark Mark(string text, AnswerMask mask, params string[] names) => Mark(Encoding.UTF8.GetBytes(text), mask, names);

    private static AnswerMark Mark(byte[] text, AnswerMask mask, params string[] names)
    {
        using var digest = new AnswerDigest(mask);
        digest.Begin(names);
        digest.Add(RunEventKind.Stdout, text);
        return digest.End();
    }

    private static int LongestCommon(int[] a, int[] b)
    {
        var table = new int[a.Length + 1, b.Length + 1];
        for (var i = 1; i <= a.Length; i++)
        {
            for (var j = 1; j <= b.Length; j++)
            {
                table[i, j] = a[i - 1] == b[j - 1] ? table[i - 1, j - 1] + 1 : Math.Max(table[i - 1, j], table[i, j - 1]);
            }
        }
        return table[a.Length, b.Length];
    }
}
