using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Desktop;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Tests.Desktop;

public sealed class DeskHoldsTests
{
    private static readonly DesktopAsk Take = new(TakeInput: true);
    private static readonly DesktopAsk GiveBack = new(TakeInput: false);
    private static readonly DesktopAsk Hide = new(Hide: true);
    private static readonly DesktopAsk Show = new(Hide: false);
    private static readonly DesktopAsk Lock = new(Lock: true);

    private readonly FakeTimeProvider time = new();
    private readonly Desk desk = new();

    [Fact]
    public async Task Keyboards_are_taken_once_and_given_back_once()
    {
        await using var holds = Open();
        (await holds.HeedAsync(Take, default)).ShouldBe(new DeskHold(true, 2));
        (await holds.HeedAsync(Take, default)).ShouldBe(new DeskHold(true, 2));
        // A word that asks for nothing changes nothing.
        (await holds.HeedAsync(new DesktopAsk(), default)).ShouldBe(new DeskHold(true, 2));
        desk.Done.ShouldBe(["take"]);
        (await holds.HeedAsync(GiveBack, default)).ShouldBe(new DeskHold(false));
        (await holds.HeedAsync(GiveBack, default)).ShouldBe(new DeskHold(false));
        desk.Done.ShouldBe(["take", "give back"]);
    }

    [Fact]
    public async Task Who_hides_the_screen_takes_the_keyboards_too_and_gives_back_only_what_was_taken_for_that()
    {
        await using var holds = Open();
        (await holds.HeedAsync(Hide, default)).ShouldBe(new DeskHold(true, 2, IsHidden: true));
        (await holds.HeedAsync(Show, default)).ShouldBe(new DeskHold(false));
        desk.Done.ShouldBe(["take", "hide", "show", "give back"]);
        desk.Done.Clear();
        await holds.HeedAsync(Take, default);
        await holds.HeedAsync(Hide, default);
        (await holds.HeedAsync(Show, default)).ShouldBe(new DeskHold(true, 2));
        desk.Done.ShouldBe(["take", "hide", "show"]);
        // Taken for the cover first, and then for itself.
        await holds.HeedAsync(GiveBack, default);
        await holds.HeedAsync(Hide, default);
        await holds.HeedAsync(Take, default);
        (await holds.HeedAsync(Show, default)).IsTaken.ShouldBeTrue();
    }

    [Fact]
    public async Task Nobody_types_without_seeing_what()
    {
        await using var holds = Open();
        await holds.HeedAsync(Hide, default);
        (await holds.HeedAsync(GiveBack, default)).ShouldBe(new DeskHold(false));
        desk.Done.ShouldBe(["take", "hide", "show", "give back"]);
    }

    [Fact]
    public async Task Whoever_goes_gives_all_back_and_it_is_locked_before()
    {
        var holds = Open();
        await holds.HeedAsync(Hide, default);
        (await holds.HeedAsync(Lock, default)).ShouldBe(new DeskHold(true, 2, null, true, true));
        await holds.DisposeAsync();
        await holds.DisposeAsync();
        desk.Done.ShouldBe(["take", "hide", "lock", "show", "give back"]);
    }

    [Fact]
    public async Task What_is_not_to_be_locked_any_more_is_not()
    {
        var holds = Open();
        await holds.HeedAsync(Lock, default);
        (await holds.HeedAsync(new DesktopAsk(Lock: false), default)).Locks.ShouldBeFalse();
        await holds.DisposeAsync();
        desk.Done.ShouldBeEmpty();
    }

    [Fact]
    public async Task Where_it_can_not_be_nothing_is_held_and_that_is_said()
    {
        await using var holds = Open();
        desk.Count = 0;
        (await holds.HeedAsync(Take, default)).ShouldBe(new DeskHold(false, Problem: "The X server of this host lets no keyboard be taken: it has none of its own, or lacks the X Input Extension."));
        (await holds.HeedAsync(Hide, default)).IsHidden.ShouldBeFalse();
        desk.Count = null;
        var nobody = holds.HeedAsync(Take, default);
        time.Advance(TimeSpan.FromSeconds(11));
        (await nobody).Problem!.ShouldContain("Nobody is logged in at a screen");
        desk.Count = 2;
        desk.Covers = "The screen is hidden already.";
        (await holds.HeedAsync(Hide, default)).ShouldBe(new DeskHold(false, 0, "The screen is hidden already."));
        desk.NoLockBecause = "Nothing locks.";
        (await holds.HeedAsync(Lock, default)).ShouldBe(new DeskHold(false, 0, "Nothing locks."));
        desk.Done.Count(d => d is "take" or "hide").ShouldBe(desk.Done.Count(d => d is "give back" or "show"));
    }

    [Fact]
    public async Task Whoever_only_looks_on_holds_nothing()
    {
        await using var holds = Open(control: false);
        foreach (var ask in new[] { Take, Hide, Lock })
        {
            (await holds.HeedAsync(ask, default)).Problem!.ShouldContain("open the desktop to control it");
        }
        desk.Done.ShouldBeEmpty();
    }

    private DeskHolds Open(bool control = true) => new(desk, control, time);

    private sealed class Desk : IDeskPowers
    {
        public List<string> Done { get; } = [];
        public int? Count { get; set; } = 2;
        public string? Covers { get; set; }
        public string? NoLockBecause { get; set; }

        public IDisposable TakeInput(Action<int> taken)
        {
            Done.Add("take");
            if (Count is { } count)
            {
                taken(count);
            }
            return new Given(() => Done.Add("give back"));
        }

        public IDisposable Hide(Action<string?> hidden)
        {
            Done.Add("hide");
            hidden(Covers);
            return new Given(() => Done.Add("show"));
        }

        public Task GiveScreenAsync(CancellationToken cancel)
        {
            Done.Add("give a screen");
            return Task.CompletedTask;
        }

        public Task<string?> LockAsync(CancellationToken cancel)
        {
            Done.Add("lock");
            return Task.FromResult<string?>(null);
        }
    }

    private sealed class Given(Action back) : IDisposable
    {
        public void Dispose() => back();
    }
}
