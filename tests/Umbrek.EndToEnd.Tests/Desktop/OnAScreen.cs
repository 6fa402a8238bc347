using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>A screen, and a service. Both go again where a test could not be set up, too: a screen that is left is seen by every agent on the machine.</summary>
public abstract class OnAScreen : IAsyncLifetime
{
    private protected World World { get; private set; } = null!;
    private protected VirtualScreen Screen { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        try
        {
            Screen = await VirtualScreen.StartAsync();
            World = await World.StartAsync();
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
        if (Screen is not null)
        {
            await Screen.DisposeAsync();
        }
    }
}
