using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Desktop;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Tests.Desktop;

public sealed class HeldInputTests
{
    private readonly FakeTimeProvider time = new();
    private Action<int>? told;
    private int held;

    [Fact]
    public async Task It_is_taken_once_and_given_back_once()
    {
        using var input = Open();
        var taking = input.HeedAsync(new DesktopAsk(true), default);
        told!(2);
        (await taking).ShouldBe(new InputTaken(true, 2));
        (await input.HeedAsync(new DesktopAsk(true), default)).ShouldBe(new InputTaken(true, 2));
        // A word that asks for nothing changes nothing.
        (await input.HeedAsync(new DesktopAsk(), default)).ShouldBe(new InputTaken(true, 2));
        held.ShouldBe(1);
        (await input.HeedAsync(new DesktopAsk(false), default)).ShouldBe(new InputTaken(false));
        held.ShouldBe(0);
        (await input.HeedAsync(new DesktopAsk(false), default)).ShouldBe(new InputTaken(false));
    }

    [Fact]
    public async Task Whoever_goes_gives_it_back()
    {
        var input = Open();
        var taking = input.HeedAsync(new DesktopAsk(true), default);
        told!(1);
        await taking;
        input.Dispose();
        held.ShouldBe(0);
    }

    [Fact]
    public async Task Where_it_can_not_be_taken_nothing_is_held_and_that_is_said()
    {
        using var input = Open();
        var none = input.HeedAsync(new DesktopAsk(true), default);
        told!(0);
        (await none).Problem!.ShouldContain("lets no keyboard be taken");
        held.ShouldBe(0);
        var nobody = input.HeedAsync(new DesktopAsk(true), default);
        time.Advance(TimeSpan.FromSeconds(11));
        (await nobody).Problem!.ShouldContain("Nobody is logged in at a screen");
        held.ShouldBe(0);
        using var onlooker = Open(control: false);
        (await onlooker.HeedAsync(new DesktopAsk(true), default)).Problem!.ShouldContain("open the desktop to control it");
    }

    private HeldInput Open(bool control = true) => new(
        taken =>
        {
            told = taken;
            held++;
            return new Given(() => held--);
        },
        control, time);

    private sealed class Given(Action back) : IDisposable
    {
        public void Dispose() => back();
    }
}
