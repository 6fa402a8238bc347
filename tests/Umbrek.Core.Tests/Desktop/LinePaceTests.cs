using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

public sealed class LinePaceTests
{
    [Fact]
    public void Nothing_is_known_before_a_mark_has_come_back()
    {
        var pace = new LinePace();
        pace.MaySend(TimeSpan.Zero).ShouldBeTrue();
        pace.RoundTrip.ShouldBeNull();
        pace.BytesPerSecond.ShouldBeNull();
    }

    [Theory]
    [InlineData(250_000, 80)]
    [InlineData(2_000_000, 20)]
    [InlineData(60_000, 200)]
    public void What_is_on_its_way_is_what_the_line_carries_in_a_round_trip(int bytesPerSecond, int milliseconds)
    {
        var pace = new LinePace();
        var line = new Line(bytesPerSecond, TimeSpan.FromMilliseconds(milliseconds));
        var most = 0L;
        for (var now = TimeSpan.Zero; now < TimeSpan.FromSeconds(10); now += TimeSpan.FromMilliseconds(5))
        {
            line.Deliver(pace, now);
            while (pace.MaySend(now))
            {
                line.Send(pace, Math.Min(pace.Share, 6000), now);
            }
            if (now > TimeSpan.FromSeconds(2))
            {
                most = Math.Max(most, pace.OnItsWay);
            }
        }
        var carries = bytesPerSecond * milliseconds / 1000.0;
        pace.BytesPerSecond!.Value.ShouldBeInRange(bytesPerSecond * 0.7, bytesPerSecond * 1.3);
        ((double)most).ShouldBeLessThan(Math.Max(LinePace.LeastWindow, carries * 1.8) + 6000);
        // The line is kept busy.
        ((double)line.Carried).ShouldBeGreaterThan(bytesPerSecond * 10 * 0.7);
        pace.Shortest!.Value.TotalMilliseconds.ShouldBeInRange(milliseconds * 0.9, milliseconds * 1.4);
    }

    [Fact]
    public void A_mark_that_was_not_sent_changes_nothing()
    {
        var pace = new LinePace();
        pace.CameBack(7, TimeSpan.FromSeconds(1));
        pace.Sent(8, 1000, TimeSpan.FromSeconds(1));
        pace.CameBack(7, TimeSpan.FromSeconds(2));
        pace.OnItsWay.ShouldBe(1000);
        pace.CameBack(8, TimeSpan.FromSeconds(3));
        pace.OnItsWay.ShouldBe(0);
        pace.RoundTrip.ShouldBe(TimeSpan.FromSeconds(2));
    }

    [Fact]
    public void Pictures_are_worse_where_the_line_carries_less()
    {
        int QualityAt(int rate)
        {
            var pace = new LinePace();
            pace.Sent(1, rate / 10, TimeSpan.Zero);
            pace.CameBack(1, TimeSpan.FromMilliseconds(100));
            return pace.Quality;
        }
        var qualities = new[] { 50_000, 200_000, 1_000_000, 10_000_000 }.Select(QualityAt).ToList();
        qualities.ShouldBeInOrder();
        qualities.Distinct().Count().ShouldBe(4);
    }

    /// <summary>A line that carries so much, and takes so long there and back.</summary>
    private sealed class Line(int bytesPerSecond, TimeSpan trip)
    {
        private readonly Queue<(uint Number, int Bytes, TimeSpan Back)> going = new();
        private uint number;
        private TimeSpan free;

        public long Carried { get; private set; }

        public void Send(LinePace pace, int bytes, TimeSpan now)
        {
            free = (free > now ? free : now) + TimeSpan.FromSeconds((double)bytes / bytesPerSecond);
            going.Enqueue((++number, bytes, free + trip));
            pace.Sent(number, bytes, now);
        }

        public void Deliver(LinePace pace, TimeSpan now)
        {
            while (going.TryPeek(out var next) && next.Back <= now)
            {
                going.Dequeue();
                Carried += next.Bytes;
                pace.CameBack(next.Number, next.Back);
            }
        }
    }
}
