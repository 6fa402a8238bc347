using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>A service, and a screen that its agents see. Both go again where a test could not be set up, too.</summary>
public abstract class OnAScreen : IAsyncLifetime
{
    private protected World World { get; private set; } = null!;
    private protected VirtualScreen Screen { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        try
        {
            World = await World.StartAsync();
            Screen = await World.OpenScreenAsync();
            await SetUpAsync();
        }
        catch
        {
            await DisposeAsync();
            throw;
        }
    }

    /// <summary>What a test finds there.</summary>
    protected abstract Task SetUpAsync();

    public virtual async ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        if (World is not null)
        {
            await World.DisposeAsync();
        }
    }
}
