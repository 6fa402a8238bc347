using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http.Connections;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.Extensions.DependencyInjection;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Jobs;
using Umbrek.Core.Links;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;

namespace Umbrek.Simulation.Links;

/// <summary>
/// A host that is only its link: it proves its key, sends samples, and answers every order at once with one line. For
/// thousands of hosts in one process; what it says over the link is what an agent says.
/// </summary>
/// <param name="bootId">The running boot's id, where it is not the one that follows from the host's name: a copy has another.</param>
public sealed class LightHost(AgentIdentity identity, SimulatedHost host, TimeProvider time, string? bootId = null, string? hardwareId = null) : IAsyncDisposable
{
    private static readonly TimeSpan SampleInterval = TimeSpan.FromSeconds(30);
    private readonly SimulatedPlatform platform = new(host, time);
    private HubConnection? connection;
    private TaskCompletionSource answering = Answering();
    private int executions;
    private int asked;

    /// <summary>What it puts out for an order, and the exit status; its own name and 0 when nothing is set.</summary>
    public Func<RunOrder, Task<(string Output, int ExitStatus)>>? Answer { get; set; }

    /// <summary>What it says of the steps of a runbook; nothing unless it is told to.</summary>
    public Func<RunOrder, IReadOnlyList<StepMark>>? Steps { get; set; }

    /// <summary>Hears requests and does not answer them, as a host that hangs.</summary>
    public void FallSilent() => answering = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);

    public bool IsLinked => connection?.State == HubConnectionState.Connected;

    /// <summary>How many orders it carried out.</summary>
    public int Executions => executions;

    /// <summary>How many questions it heard, answered or not.</summary>
    public int Asked => asked;

    /// <summary>What the service said to the last hello.</summary>
    public LinkWelcome? LastWelcome { get; private set; }

    /// <summary>Connects and proves itself; returns when the service has welcomed it.</summary>
    public async Task ConnectAsync(CancellationToken cancel)
    {
        if (connection is not null)
        {
            await connection.DisposeAsync().ConfigureAwait(false);
        }
        var challenge = new TaskCompletionSource<LinkChallenge>(TaskCreationOptions.RunContinuationsAsynchronously);
        connection = Build();
        connection.On<LinkChallenge>(ToAgent.Challenge, c => { challenge.TrySetResult(c); });
        connection.On<RunOrder>(ToAgent.StartRun, order => { _ = AnswerAsync(connection, order); });
        connection.On<RunCancel>(ToAgent.CancelRun, _ => { });
        connection.On<RunsKept>(ToAgent.RunsKept, _ => { });
        connection.On<SamplesKept>(ToAgent.SamplesKept, _ => { });
        connection.On<HostRequest, HostAnswer>(ToAgent.Ask, async _ =>
        {
            Interlocked.Increment(ref asked);
            await answering.Task.ConfigureAwait(false);
            return new HostAnswer(null);
        });
        await connection.StartAsync(cancel).ConfigureAwait(false);
        var posed = await challenge.Task.WaitAsync(LinkProtocol.HelloWithin, cancel).ConfigureAwait(false);
        using var key = identity.OpenKey();
        var hello = new LinkHello(LinkProtocol.Version, identity.HostId, LinkProof.Sign(key, identity.HostId, identity.ServiceKeySha256, posed.Nonce), platform.AgentVersion, host.Name, time.GetUtcNow(), [], hardwareId ?? platform.HardwareId, bootId ?? platform.BootId);
        var welcome = await connection.InvokeAsync<LinkWelcome>(ToService.Hello, hello, cancel).ConfigureAwait(false);
        LastWelcome = welcome;
        if (welcome.Refusal != LinkRefusal.None)
        {
            throw new InvalidOperationException($"{host.Name}: {welcome.Message}");
        }
    }

    /// <summary>Says whatever a message may be.</summary>
    public Task SendAsync<T>(string message, T body, CancellationToken cancel = default) => connection!.SendAsync(message, body, cancel);

    public async Task SendSampleAsync(CancellationToken cancel) =>
        await connection!.SendAsync(ToService.Samples, new SampleBatch([SimulatedHealth.At(host, time.GetUtcNow())], time.GetUtcNow()), cancel).ConfigureAwait(false);

    /// <summary>What an agent sends after an outage: as many samples as one message holds, all older than <paramref name="before"/>.</summary>
    public async Task SendBacklogAsync(DateTimeOffset before, CancellationToken cancel) =>
        await connection!.SendAsync(ToService.Samples, new SampleBatch([.. Enumerable.Range(1, SampleBatch.MaxCount).Reverse().Select(n => SimulatedHealth.At(host, before.AddSeconds(-n)))]), cancel).ConfigureAwait(false);

    public async Task SendFactsAsync(CancellationToken cancel) =>
        await connection!.SendAsync(ToService.Facts, new FactReport(platform.GatherFacts(time.GetUtcNow())), cancel).ConfigureAwait(false);

    /// <summary>Linked for ever, with jittered returns.</summary>
    public async Task RunForeverAsync(CancellationToken stop)
    {
        for (var attempt = 0; !stop.IsCancellationRequested; attempt++)
        {
            try
            {
                await ConnectAsync(stop).ConfigureAwait(false);
                attempt = 0;
                await SendFactsAsync(stop).ConfigureAwait(false);
                await Task.Delay(SampleInterval * Random.Shared.NextDouble(), time, stop).ConfigureAwait(false);
                while (IsLinked)
                {
                    await SendSampleAsync(stop).ConfigureAwait(false);
                    await Task.Delay(SampleInterval, time, stop).ConfigureAwait(false);
                }
            }
            catch (Exception e) when (e is HttpRequestException or IOException or InvalidOperationException or TimeoutException or HubException or System.Net.WebSockets.WebSocketException)
            {
                await Task.Delay(Backoff.Delay(attempt, Random.Shared.NextDouble()), time, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }

    public async ValueTask DisposeAsync()
    {
        answering.TrySetResult();
        if (connection is not null)
        {
            await connection.DisposeAsync().ConfigureAwait(false);
        }
    }

    private static TaskCompletionSource Answering()
    {
        var now = new TaskCompletionSource();
        now.SetResult();
        return now;
    }

    private async Task AnswerAsync(HubConnection on, RunOrder order)
    {
        Interlocked.Increment(ref executions);
        var now = time.GetUtcNow();
        var (output, status) = Answer is { } answer ? await answer(order).ConfigureAwait(false) : ($"{host.Name}\n", 0);
        var steps = Steps?.Invoke(order) ?? [];
        RunEvent Event(long sequence, RunEventKind kind) => new() { RunId = order.RunId, Sequence = sequence, At = now, Kind = kind };
        RunEvent[] events =
        [
            Event(0, RunEventKind.Accepted),
            Event(1, RunEventKind.Started) with { Start = new RunStart(4242, "root") },
            Event(2, RunEventKind.Stdout) with { Data = Encoding.UTF8.GetBytes(output) },
            .. steps.Select((mark, index) => Event(3 + index, RunEventKind.Step) with { Step = mark }),
            Event(3 + steps.Count, RunEventKind.Ended) with { End = new RunEnd(RunOutcome.Exited, status, null) },
        ];
        try
        {
            await on.SendAsync(ToService.RunEvents, new RunEventBatch(events)).ConfigureAwait(false);
        }
        catch (Exception e) when (e is InvalidOperationException or IOException)
        {
            // The link broke; the order comes again.
        }
    }

    private HubConnection Build()
    {
        var builder = new HubConnectionBuilder().WithUrl(new Uri(ApiClient.Root(identity.Service), LinkProtocol.Path.TrimStart('/')), HttpTransportType.WebSockets, options =>
        {
            options.SkipNegotiation = true;
            var pin = identity.NewPin();
            options.WebSocketConfiguration = socket =>
            {
                if (identity.Service.Scheme == Uri.UriSchemeHttps)
                {
                    socket.RemoteCertificateValidationCallback = pin.Validate;
                }
            };
        }).WithKeepAliveInterval(LinkProtocol.PingInterval).WithServerTimeout(LinkProtocol.Silence);
        builder.Services.Configure<JsonHubProtocolOptions>(o => o.PayloadSerializerOptions = new(WireJson.Default.Options));
        return builder.Build();
    }
}
