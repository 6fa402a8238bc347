using System.Text;
using Umbrek.Core.Shell;

namespace Umbrek.Core.Tests.Shell;

public sealed class ShellOutputTests
{
    private static string Text(ShellOutput output, long offset, long most = long.MaxValue) => Encoding.ASCII.GetString([.. output.From(offset, most).SelectMany(p => p.Data.ToArray())]);

    [Fact]
    public void Whoever_comes_back_gets_what_he_has_not_seen()
    {
        var output = new ShellOutput(100);
        output.Add(ShellStream.Output, "one "u8.ToArray());
        output.Add(ShellStream.Error, "two "u8.ToArray());
        output.Add(ShellStream.Output, "three"u8.ToArray());
        Text(output, 0).ShouldBe("one two three");
        Text(output, 6).ShouldBe("o three");
        Text(output, 13).ShouldBe("");
        Text(output, 2, most: 4).ShouldBe("e tw");
        output.From(3, 6).Select(p => (p.Stream, p.Offset)).ShouldBe([(ShellStream.Output, 3L), (ShellStream.Error, 4L), (ShellStream.Output, 8L)]);
    }

    [Fact]
    public void The_oldest_makes_room_and_is_known_to_be_gone()
    {
        var output = new ShellOutput(8);
        output.Add(ShellStream.Output, "abcdef"u8.ToArray());
        output.Room.ShouldBe(2);
        output.Add(ShellStream.Output, "ghijkl"u8.ToArray());
        (output.Start, output.End).ShouldBe((4, 12));
        Text(output, 0).ShouldBe("efghijkl");
        output.Add(ShellStream.Output, Encoding.ASCII.GetBytes(new string('x', 30)));
        (output.Start, output.End).ShouldBe((34, 42));
        Text(output, 0).ShouldBe("xxxxxxxx");
    }

    [Fact]
    public void What_was_taken_is_forgotten_to_the_byte()
    {
        var output = new ShellOutput(100);
        output.Add(ShellStream.Output, "abcdef"u8.ToArray());
        output.DropBefore(4);
        (output.Start, Text(output, 0), output.Room).ShouldBe((4, "ef", 98));
        output.DropBefore(50);
        (output.Start, output.End, Text(output, 0)).ShouldBe((6, 6, ""));
        output.Add(ShellStream.Output, Array.Empty<byte>());
        output.Add(ShellStream.Output, "g"u8.ToArray());
        Text(output, 0).ShouldBe("g");
    }

    [Fact]
    public void However_it_is_cut_it_is_the_same_stream()
    {
        var random = new Random(7);
        for (var round = 0; round < 200; round++)
        {
            var whole = new byte[random.Next(1, 500)];
            random.NextBytes(whole);
            var keeps = random.Next(1, 600);
            var output = new ShellOutput(keeps);
            for (var at = 0; at < whole.Length;)
            {
                var next = Math.Min(whole.Length, at + random.Next(1, 60));
                output.Add(random.Next(2) == 0 ? ShellStream.Output : ShellStream.Error, whole.AsMemory(at..next));
                at = next;
            }
            output.End.ShouldBe(whole.Length);
            output.Start.ShouldBe(Math.Max(0, whole.Length - keeps));
            var from = random.Next((int)output.Start, whole.Length + 1);
            var read = new List<byte>();
            while (output.From(from + read.Count, random.Next(1, 40)) is { Count: > 0 } pieces)
            {
                pieces[0].Offset.ShouldBe(from + read.Count);
                read.AddRange(pieces.SelectMany(p => p.Data.ToArray()));
            }
            read.ToArray().ShouldBe(whole[from..]);
        }
    }
}
