using System.CommandLine;
using System.Text;
using Umbrek.Service.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>
/// The service program inside the test's own process: its command line, TLS, sockets and files are those of <c>umbrekd serve</c>,
/// but the runtime and the compiled code are shared by all services of a run. A process of its own takes three seconds of
/// processor until it answers; what kills, freezes or watches the process uses one of those.
/// </summary>
internal sealed class HostedService : IAsyncDisposable
{
    private readonly CancellationTokenSource stop = new();
    private readonly Lines lines = new();
    private Task<int> serving = null!;

    public IReadOnlyList<string> Said => lines.Written;

    /// <param name="arguments">Those of <c>umbrekd</c>.</param>
    /// <param name="network">Where addresses of a network of the test's own are bound; null is this machine's alone.</param>
    public static async Task<HostedService> StartAsync(IReadOnlyList<string> arguments, Lan? network)
    {
        var service = new HostedService();
        var command = ServiceCommands.Build(builder =>
        {
            if (network is not null)
            {
                builder.WebHost.UseSockets(o => o.CreateBoundListenSocket = network.Bind);
            }
        });
        var invocation = new InvocationConfiguration { Output = service.lines, Error = service.lines, ProcessTerminationTimeout = null };
        service.serving = Task.Run(() => command.Parse([.. arguments]).InvokeAsync(invocation, service.stop.Token));
        await Wait.UntilAsync(() => service.Said.Contains("ready") || (service.serving.IsCompleted ? throw service.Ended() : false), "the service to be ready", Wait.StartSeconds);
        return service;
    }

    private InvalidOperationException Ended() => new($"it ended:\n{string.Join('\n', Said)}");

    public async Task StopAsync()
    {
        await stop.CancelAsync();
        (await serving).ShouldBe(0, string.Join('\n', Said));
    }

    public async ValueTask DisposeAsync()
    {
        await StopAsync();
        stop.Dispose();
    }

    private sealed class Lines : TextWriter
    {
        private readonly Lock gate = new();
        private readonly StringBuilder text = new();

        public override Encoding Encoding => Encoding.UTF8;

        public IReadOnlyList<string> Written
        {
            get
            {
                lock (gate)
                {
                    return text.ToString().Split('\n');
                }
            }
        }

        public override void Write(char value)
        {
            lock (gate)
            {
                text.Append(value);
            }
        }
    }
}
