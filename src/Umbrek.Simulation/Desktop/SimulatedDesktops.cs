using System.IO.Pipelines;
using Umbrek.Agent.Desktop;
using Umbrek.Core.Desktop;
using Umbrek.Simulation.Estate;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Files;

namespace Umbrek.Simulation.Desktop;

/// <summary>The screen of a made-up computer: one, or none where there is no monitor.</summary>
public sealed class SimulatedDesktops(SimulatedHost host, SimulatedPlatform platform, TimeProvider time) : IDesktops
{
    private const string Screen = ":0";

    private SimulatedDesk Desk => field ??= new(host, platform, time);

    public string NoneBecause => "This host has no screen: no monitor is connected, and no X server runs on it.";

    public IReadOnlyList<ScreenInfo> List() => host.Kind is HostKind.Logger or HostKind.Server ? [] : [new ScreenInfo(Screen, platform.Person)];

    public Task<ShownScreen> ShowAsync(ScreenInfo screen, DesktopWish wish, CancellationToken cancel)
    {
        var (up, down) = (new Pipe(), new Pipe());
        var line = new TwoWayStream(down.Reader.AsStream(), up.Writer.AsStream());
        return Task.FromResult(new ShownScreen(screen, line, ServeAsync(up, down, wish, platform.Down)));
    }

    private async Task<string> ServeAsync(Pipe up, Pipe down, DesktopWish wish, CancellationToken over)
    {
        try
        {
            using var jpeg = TurboJpeg.TryCreate();
            using var line = new TwoWayStream(up.Reader.AsStream(), down.Writer.AsStream());
            await using IScreen screen = wish.Small is { } width ? new SmallScreen(new SimulatedScreen(Desk, time), width, time) : new SimulatedScreen(Desk, time);
            await using var server = new RfbServer(screen, line, wish.Control, jpeg, time, repairs: wish.Small is null);
            await server.ServeAsync(over).ConfigureAwait(false);
            return "The viewer has gone.";
        }
        catch (RfbException e)
        {
            return $"The viewer said something that is no RFB: {e.Message}.";
        }
        catch (Exception e) when (e is IOException or OperationCanceledException or InvalidOperationException)
        {
            return "The screen has gone.";
        }
        finally
        {
            await down.Writer.CompleteAsync().ConfigureAwait(false);
            await up.Reader.CompleteAsync().ConfigureAwait(false);
        }
    }
}
