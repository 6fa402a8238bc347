using System.Threading.Channels;
using Umbrek.Cli.Shell;
using Umbrek.Core.Shell;

namespace Umbrek.Cli.Tests.Shell;

/// <summary>A recording shown in its own time, with hands on it.</summary>
public sealed class CastShowTests
{
    private static readonly TimeSpan Soon = TimeSpan.FromSeconds(60);
    private readonly SteppedTime time = new();
    private readonly Channel<string> shown = Channel.CreateUnbounded<string>();

    private static async IAsyncEnumerable<CastEvent> Events(params double[] at)
    {
        foreach (var second in at)
        {
            await Task.Yield();
            yield return new CastEvent(TimeSpan.FromSeconds(second), CastKind.Output, $"at {second}");
        }
    }

    private CastShow Show(TimeSpan? longest = null, double pace = 1)
    {
        var clock = new CastClock(longest);
        clock.GoAt(pace);
        return new CastShow(clock, e => shown.Writer.TryWrite(e.Text), time);
    }

    /// <summary>Lets pass what is waited for.</summary>
    /// <returns>How long that was, in seconds, and what was shown then.</returns>
    private async Task<(double, string)> NextAsync()
    {
        var waited = await time.PassAsync().WaitAsync(Soon);
        return (waited.TotalSeconds, await shown.Reader.ReadAsync().AsTask().WaitAsync(Soon));
    }

    [Fact]
    public async Task It_goes_at_its_pace_without_its_long_pauses()
    {
        var running = Show(TimeSpan.FromSeconds(3), pace: 2).RunAsync(Events(0, 1, 100, 100), default);
        (await shown.Reader.ReadAsync().AsTask().WaitAsync(Soon)).ShouldBe("at 0");
        (await NextAsync()).ShouldBe((0.5, "at 1"));
        (await NextAsync()).ShouldBe((1.5, "at 100"));
        (await shown.Reader.ReadAsync().AsTask().WaitAsync(Soon)).ShouldBe("at 100");
        await running.WaitAsync(Soon);
    }

    [Fact]
    public async Task It_stands_and_goes_on_and_another_pace_counts_for_what_is_left()
    {
        var show = Show();
        var running = show.RunAsync(Events(8, 10), default);
        var waited = await time.AskedAsync().WaitAsync(Soon);
        waited.TotalSeconds.ShouldBe(8);
        // Half of it has passed.
        time.Now += TimeSpan.FromSeconds(4);
        show.Change(2).ShouldBe(2);
        (await time.AskedAsync().WaitAsync(Soon)).TotalSeconds.ShouldBe(2);
        show.Hold().ShouldBeTrue();
        // However long it stands, nothing passes of the recording.
        await time.GivenUpAsync().WaitAsync(Soon);
        time.Now += TimeSpan.FromHours(1);
        show.Hold().ShouldBeFalse();
        (await NextAsync()).ShouldBe((2, "at 8"));
        (await NextAsync()).ShouldBe((1, "at 10"));
        await running.WaitAsync(Soon);
    }

    [Fact]
    public async Task It_can_be_left_at_any_time()
    {
        using var leaving = new CancellationTokenSource();
        var show = Show();
        var running = show.RunAsync(Events(8), leaving.Token);
        await time.AskedAsync().WaitAsync(Soon);
        await leaving.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => running.WaitAsync(Soon));
    }

    /// <summary>Time that passes when the test says so, and not before somebody waits for it.</summary>
    private sealed class SteppedTime : TimeProvider
    {
        private readonly Channel<Step> steps = Channel.CreateUnbounded<Step>();

        private Step? last;

        public TimeSpan Now { get; set; }

        public override long TimestampFrequency => TimeSpan.TicksPerSecond;

        public override long GetTimestamp() => Now.Ticks;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            var step = new Step(dueTime, () => callback(state));
            steps.Writer.TryWrite(step);
            return step;
        }

        /// <summary>What is waited for now; it does not pass.</summary>
        public async Task<TimeSpan> AskedAsync() => (await NextAsync()).Due;

        /// <summary>What was asked for last is waited for no more.</summary>
        public Task GivenUpAsync() => last!.Gone;

        /// <summary>Lets the next that is waited for pass.</summary>
        public async Task<TimeSpan> PassAsync()
        {
            var step = await NextAsync();
            Now += step.Due;
            step.Fire();
            return step.Due;
        }

        private async Task<Step> NextAsync()
        {
            while (true)
            {
                var step = await steps.Reader.ReadAsync();
                if (step.Due > TimeSpan.Zero && !step.Gone.IsCompleted)
                {
                    return last = step;
                }
            }
        }

        private sealed class Step(TimeSpan due, Action fire) : ITimer
        {
            private readonly TaskCompletionSource gone = new(TaskCreationOptions.RunContinuationsAsynchronously);

            public TimeSpan Due { get; } = due;
            public Task Gone => gone.Task;

            public void Fire() => fire();

            public bool Change(TimeSpan dueTime, TimeSpan period) => true;

            public void Dispose() => gone.TrySetResult();

            public ValueTask DisposeAsync()
            {
                Dispose();
                return ValueTask.CompletedTask;
            }
        }
    }
}
