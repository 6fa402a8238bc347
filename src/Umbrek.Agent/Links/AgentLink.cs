using System.Collections.Concurrent;
using System.Threading.Channels;
using Microsoft.AspNetCore.Http.Connections;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.Extensions.DependencyInjection;
using Umbrek.Agent.Access;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Agent.Shell;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Core.Links;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Links;

/// <summary>
/// The one long-lived connection to the service. Opened again for ever, with jittered waits; each time the host proves
/// its key, reports its facts, and goes on sending what the service does not keep yet.
/// </summary>
public sealed class AgentLink(
    AgentIdentity enrolledAs,
    StateDirectory state,
    IHostPlatform platform,
    HostRules rules,
    SessionTable sessions,
    ChannelDialer channels,
    ShellTable shells,
    DesktopView desktops,
    RunTable runs,
    SampleBacklog samples,
    ProbeRunner probes,
    TimeProvider time,
    AgentLog log,
    Action<LinkState, string?> report,
    Action? restart = null) : IDisposable
{
    private static readonly TimeSpan FactInterval = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan FactRest = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan ScanReportInterval = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan RefusedWait = TimeSpan.FromMinutes(1);

    /// <summary>Asking whether a person has decided begins this often and becomes rarer.</summary>
    private static readonly TimeSpan ApprovalWait = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan MostApprovalWait = TimeSpan.FromSeconds(30);

    /// <summary>How often the file that limits this side is looked at for the service's sake; every order looks at it anyway.</summary>
    private static readonly TimeSpan LimitLookInterval = TimeSpan.FromSeconds(5);

    /// <summary>How often figures of probes are looked at for what is new in them; a change of state is told at once.</summary>
    private static readonly TimeSpan ProbeReportInterval = TimeSpan.FromSeconds(15);

    private const int MostLooks = 4;

    private readonly SemaphoreSlim newSamples = new(0);
    private readonly IAgentUpdate? update = platform.Update(state);
    private readonly ConcurrentDictionary<Guid, CancellationTokenSource> scans = new();
    private int updating;
    private int looking;
    private AgentIdentity identity = enrolledAs;
    private HubConnection? current;
    private TimeSpan clockError;
    private int approvalAsked;
    private ServicePin? lastPin;

    /// <summary>Seconds between samples, as the service last asked for it.</summary>
    public int SampleIntervalSeconds { get; private set; } = Core.Health.SampleRules.DefaultIntervalSeconds;

    /// <summary>The service's time, as far as it is known: the host's own clock, put right when it is wrong by more than a minute.</summary>
    public DateTimeOffset ServiceNow => time.GetUtcNow() + clockError;

    public void SampleTaken() => newSamples.Release();

    public void Dispose()
    {
        newSamples.Dispose();
    }

    public async Task RunAsync(CancellationToken stop)
    {
        var attempt = 0;
        while (!stop.IsCancellationRequested)
        {
            report(LinkState.Connecting, null);
            var wait = Backoff.Delay(attempt++, Random.Shared.NextDouble());
            try
            {
                var refused = await LiveAsync(() => attempt = 0, stop).ConfigureAwait(false);
                if (refused is { Refusal: LinkRefusal.AwaitingApproval or LinkRefusal.HostRetired })
                {
                    // A person may change that at any time.
                    report(refused.Refusal == LinkRefusal.HostRetired ? LinkState.Refused : LinkState.AwaitingApproval, refused.Message);
                    wait = TimeSpan.FromSeconds(Math.Min(MostApprovalWait.TotalSeconds, ApprovalWait.TotalSeconds * Math.Pow(1.3, approvalAsked++)) * (0.75 + 0.5 * Random.Shared.NextDouble()));
                }
                else if (refused is { Refusal: LinkRefusal.ClonedIdentity, SplitToken: { } token })
                {
                    log.Warning($"another machine is linked as {identity.Label}; this one, a copy of its disk, takes an identity of its own");
                    identity = await new Enroller(state, platform).SplitAsync(identity, token, stop).ConfigureAwait(false);
                    wait = TimeSpan.Zero;
                }
                else if (refused is not null)
                {
                    log.Warning($"the service refused the link: {refused.Message}");
                    report(LinkState.Refused, refused.Message);
                    wait = RefusedWait * (0.5 + Random.Shared.NextDouble());
                }
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e) when (e is not OutOfMemoryException)
            {
                var reason = ApiClient.ExplainUnreachable(identity.Service, lastPin, e);
                log.Warning(reason);
                report(LinkState.Waiting, reason);
            }
            finally
            {
                current = null;
            }
            try
            {
                await Task.Delay(wait, time, stop).ConfigureAwait(false);
            }
            catch (OperationCanceledException)
            {
                break;
            }
        }
        report(LinkState.Stopped, null);
    }

    /// <summary>Tells the service why the link ends; false when there is none to tell it on.</summary>
    public async Task<bool> SayGoodbyeAsync(AwayReason reason)
    {
        if (current is not { State: HubConnectionState.Connected } connection)
        {
            return false;
        }
        try
        {
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(5), time);
            await connection.InvokeAsync(ToService.Goodbye, new LinkGoodbye(reason), limit.Token).ConfigureAwait(false);
            await connection.StopAsync(limit.Token).ConfigureAwait(false);
            return true;
        }
        catch (Exception e) when (e is OperationCanceledException or InvalidOperationException or IOException or HubException)
        {
            return false;
        }
    }

    /// <summary>One connection from opening to closing.</summary>
    /// <returns>Null when it simply ended, or the service's answer refusing it.</returns>
    private async Task<LinkWelcome?> LiveAsync(Action linked, CancellationToken stop)
    {
        lastPin = identity.NewPin();
        await using var connection = Build(lastPin);
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var challenge = new TaskCompletionSource<LinkChallenge>(TaskCreationOptions.RunContinuationsAsynchronously);
        var closed = new TaskCompletionSource<Exception?>(TaskCreationOptions.RunContinuationsAsynchronously);
        HostSide told;
        var orders = Channel.CreateUnbounded<object>(new UnboundedChannelOptions { SingleReader = true });

        connection.Closed += e =>
        {
            closed.TrySetResult(e);
            challenge.TrySetException(e ?? new IOException("the service closed the link"));
            return Task.CompletedTask;
        };
        // Handlers only enqueue: one that waits would hold up everything behind it.
        connection.On<LinkChallenge>(ToAgent.Challenge, c => { challenge.TrySetResult(c); });
        connection.On<RunOrder>(ToAgent.StartRun, o => { orders.Writer.TryWrite(o); });
        connection.On<RunCancel>(ToAgent.CancelRun, c => { orders.Writer.TryWrite(c); });
        connection.On<RunsKept>(ToAgent.RunsKept, k =>
        {
            foreach (var run in k.Runs)
            {
                runs.Kept(run);
            }
        });
        connection.On<SamplesKept>(ToAgent.SamplesKept, k =>
        {
            samples.Kept(k.UpTo);
            newSamples.Release();
        });
        connection.On<ChannelOrder>(ToAgent.OpenChannel, c => { orders.Writer.TryWrite(c); });
        connection.On<SessionEnd>(ToAgent.EndSession, e => { orders.Writer.TryWrite(e); });
        connection.On<HostPolicy>(ToAgent.WantPolicy, p => { orders.Writer.TryWrite(p); });
        connection.On<WantedProbes>(ToAgent.WantProbes, p => { orders.Writer.TryWrite(p); });
        var known = new Dictionary<string, string>(StringComparer.Ordinal);
        connection.On<HostRequest, HostAnswer>(ToAgent.Ask, request => AnswerAsync(connection, known, request, ended.Token));

        using (var limit = CancellationTokenSource.CreateLinkedTokenSource(stop))
        {
            limit.CancelAfter(LinkProtocol.HelloWithin);
            try
            {
                await connection.StartAsync(limit.Token).ConfigureAwait(false);
                var asked = await challenge.Task.WaitAsync(limit.Token).ConfigureAwait(false);
                if (asked.Version < LinkProtocol.OldestVersion)
                {
                    return new LinkWelcome(LinkRefusal.VersionTooNew, $"The service speaks link version {asked.Version}; this agent needs {LinkProtocol.OldestVersion} or newer. Update the service.", "", "", 0);
                }
                NoteClock(asked.ServiceTime);
                told = rules.Side();
                var hello = connection.InvokeAsync<LinkWelcome>(ToService.Hello, Hello(asked, told), limit.Token);
                // From the hello on the service may hold this host for linked: a goodbye goes behind it, not only behind its answer.
                current = connection;
                var welcome = await hello.ConfigureAwait(false);
                if (welcome.Refusal != LinkRefusal.None)
                {
                    return welcome with { Message = welcome.Message ?? welcome.Refusal.ToString() };
                }
                if (welcome.HostId is { } now && now != identity.HostId)
                {
                    identity = identity with { HostId = now, Label = welcome.Label, GroupPath = welcome.GroupPath };
                    identity.Save(state);
                }
                if (welcome.Policy is { } policy)
                {
                    Keep(policy);
                }
                SampleIntervalSeconds = Math.Clamp(welcome.SampleIntervalSeconds, 1, 3600);
                log.Info($"linked with {identity.Service.Authority} as {welcome.Label} ({welcome.GroupPath})");
            }
            catch (OperationCanceledException) when (!stop.IsCancellationRequested)
            {
                throw new TimeoutException($"no answer within {LinkProtocol.HelloWithin.TotalSeconds:0} s");
            }
        }

        update?.Reported();
        update?.Prove();
        linked();
        report(LinkState.Linked, null);
        runs.Rewind();
        probes.Rewind();
        var work = new[]
        {
            TakeOrdersAsync(connection, orders.Reader, ended.Token),
            SendRunsAsync(connection, ended.Token),
            SendSamplesAsync(connection, ended.Token),
            SendFactsAsync(connection, known, ended.Token),
            SendSideAsync(connection, told, ended.Token),
            SendKeyReportsAsync(connection, ended.Token),
            SendFileReportsAsync(connection, ended.Token),
            SendProbesAsync(connection, ended.Token),
        };
        await Task.WhenAny([closed.Task, .. work]).WaitAsync(stop).ConfigureAwait(false);
        await ended.CancelAsync().ConfigureAwait(false);
        await Task.WhenAll(work).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        var why = closed.Task.IsCompleted ? (await closed.Task.ConfigureAwait(false))?.Message ?? "the service closed it" : "sending failed";
        log.Warning($"the link ended: {why}");
        report(LinkState.Waiting, why);
        return null;
    }

    private HubConnection Build(ServicePin pin)
    {
        var builder = new HubConnectionBuilder()
            .WithUrl(new Uri(ApiClient.Root(identity.Service), LinkProtocol.Path.TrimStart('/')), HttpTransportType.WebSockets, options =>
            {
                options.SkipNegotiation = true;
                options.WebSocketConfiguration = socket =>
                {
                    if (identity.Service.Scheme != Uri.UriSchemeHttp)
                    {
                        socket.RemoteCertificateValidationCallback = pin.Validate;
                    }
                };
            })
            .WithKeepAliveInterval(LinkProtocol.PingInterval)
            .WithServerTimeout(LinkProtocol.Silence);
        builder.Services.Configure<JsonHubProtocolOptions>(o => o.PayloadSerializerOptions = new(LinkJson.Default.Options));
        return builder.Build();
    }

    private LinkHello Hello(LinkChallenge asked, HostSide side)
    {
        using var key = identity.OpenKey();
        return new LinkHello(
            LinkProtocol.Version, identity.HostId, LinkProof.Sign(key, identity.HostId, identity.ServiceKeySha256, asked.Nonce),
            platform.AgentVersion, platform.SystemName, time.GetUtcNow(), runs.Unfinished, platform.HardwareId, platform.BootId, update?.Report(), side);
    }

    private void NoteClock(DateTimeOffset serviceTime)
    {
        var error = serviceTime - time.GetUtcNow();
        var wrong = error.Duration() > TimeSpan.FromMinutes(1);
        if (wrong && (clockError - error).Duration() > TimeSpan.FromMinutes(1))
        {
            log.Warning($"this host's clock is {Core.Text.Units.Span(error.Duration())} {(error > TimeSpan.Zero ? "behind" : "ahead of")} the service's; samples are told in the service's time");
        }
        clockError = wrong ? error : TimeSpan.Zero;
    }

    private async Task TakeOrdersAsync(HubConnection connection, ChannelReader<object> orders, CancellationToken ended)
    {
        await foreach (var order in orders.ReadAllAsync(ended).ConfigureAwait(false))
        {
            if (order is RunOrder run)
            {
                if (runs.Accept(run, ServiceNow) is { } refusal)
                {
                    await connection.SendAsync(ToService.RunEvents, new RunEventBatch([refusal]), ended).ConfigureAwait(false);
                }
            }
            else if (order is RunCancel cancel)
            {
                runs.Cancel(cancel.RunId);
            }
            else if (order is ChannelOrder channel)
            {
                _ = channels.DialAsync(channel, identity, ended);
            }
            else if (order is SessionEnd over)
            {
                sessions.End(over.SessionId);
                if (!over.KeepsShells)
                {
                    _ = shells.EndSessionAsync(over.SessionId);
                }
            }
            else if (order is HostPolicy policy)
            {
                Keep(policy);
            }
            else if (order is WantedProbes { Probes: not null } wanted)
            {
                probes.Want(wanted);
            }
        }
    }

    private async Task SendRunsAsync(HubConnection connection, CancellationToken ended)
    {
        while (true)
        {
            await runs.News.WaitAsync(ended).ConfigureAwait(false);
            while (runs.News.Wait(0, CancellationToken.None))
            {
                // Many words of news are one look.
            }
            while (runs.Holds.TryDequeue(out var held))
            {
                await connection.SendAsync(ToService.RunHeld, held, ended).ConfigureAwait(false);
            }
            while (runs.Answers.TryDequeue(out var answer))
            {
                await connection.SendAsync(ToService.PersonAnswered, answer, ended).ConfigureAwait(false);
            }
            while (runs.Refusals.TryDequeue(out var refusal))
            {
                await connection.SendAsync(ToService.RunEvents, new RunEventBatch([refusal]), ended).ConfigureAwait(false);
            }
            bool any;
            do
            {
                any = false;
                foreach (var entry in runs.Entries)
                {
                    var batch = runs.NextBatch(entry);
                    if (batch.Count > 0)
                    {
                        any = true;
                        await connection.SendAsync(ToService.RunEvents, new RunEventBatch(batch), ended).ConfigureAwait(false);
                    }
                }
            }
            while (any);
        }
    }

    private async Task SendSamplesAsync(HubConnection connection, CancellationToken ended)
    {
        // One batch at a time: the next goes when the service keeps the last, or with the next sample.
        while (true)
        {
            if (samples.Oldest() is { } batch)
            {
                await connection.SendAsync(ToService.Samples, batch with { SentAt = time.GetUtcNow() }, ended).ConfigureAwait(false);
            }
            await newSamples.WaitAsync(ended).ConfigureAwait(false);
        }
    }

    private async Task SendFactsAsync(HubConnection connection, Dictionary<string, string> known, CancellationToken ended)
    {
        while (true)
        {
            await ReportFactsAsync(connection, known, ended).ConfigureAwait(false);
            if (await probes.Turned.WaitAsync(FactInterval, ended).ConfigureAwait(false))
            {
                // A service that runs again has not failed any more; many turns are one look.
                await Task.Delay(FactRest, time, ended).ConfigureAwait(false);
                while (probes.Turned.Wait(0, CancellationToken.None))
                {
                }
            }
        }
    }

    /// <summary>The service's policy counts from now on, also for shells that go on here without anybody.</summary>
    private void Keep(HostPolicy policy)
    {
        rules.Want(policy);
        if (!rules.InForce.Allows(HostAct.Shell))
        {
            _ = shells.EndAllAsync();
        }
    }

    /// <summary>Tells what this side allows whenever it is not what was told last: the service wants something else, or the file on the host was changed.</summary>
    private async Task SendSideAsync(HubConnection connection, HostSide told, CancellationToken ended)
    {
        while (true)
        {
            var side = rules.Side();
            if (side != told)
            {
                await connection.SendAsync(ToService.OwnSide, side, ended).ConfigureAwait(false);
                told = side;
            }
            await rules.Changed.WaitAsync(LimitLookInterval, ended).ConfigureAwait(false);
        }
    }

    private async Task SendKeyReportsAsync(HubConnection connection, CancellationToken ended)
    {
        await foreach (var report in channels.KeyReports.ReadAllAsync(ended).ConfigureAwait(false))
        {
            await connection.SendAsync(ToService.KeyTried, report, ended).ConfigureAwait(false);
        }
    }

    private async Task SendFileReportsAsync(HubConnection connection, CancellationToken ended)
    {
        await foreach (var report in channels.FileReports.ReadAllAsync(ended).ConfigureAwait(false))
        {
            await connection.SendAsync(ToService.FilesRead, report, ended).ConfigureAwait(false);
        }
    }

    /// <summary>Told when the service has answered; until then it is told again with the next link.</summary>
    private async Task SendProbesAsync(HubConnection connection, CancellationToken ended)
    {
        while (true)
        {
            while (probes.Next() is var (report, told))
            {
                if (!await connection.InvokeAsync<bool>(ToService.Probes, report, ended).ConfigureAwait(false))
                {
                    break;
                }
                told();
            }
            await probes.News.WaitAsync(ProbeReportInterval, ended).ConfigureAwait(false);
        }
    }

    private async Task ReportFactsAsync(HubConnection connection, Dictionary<string, string> known, CancellationToken ended)
    {
        List<Fact> changed = [];
        var facts = platform.GatherFacts(time.GetUtcNow());
        lock (known)
        {
            foreach (var fact in facts)
            {
                var value = fact.Value.GetRawText();
                if (!known.TryGetValue(fact.Name, out var before) || before != value)
                {
                    known[fact.Name] = value;
                    changed.Add(fact);
                }
            }
        }
        foreach (var part in changed.Chunk(20))
        {
            await connection.SendAsync(ToService.Facts, new FactReport(part), ended).ConfigureAwait(false);
        }
    }

    private async Task<HostAnswer> AnswerAsync(HubConnection connection, Dictionary<string, string> known, HostRequest request, CancellationToken ended)
    {
        // Whatever is thrown here would reach the service word for word: it is caught and told in a sentence.
        try
        {
            switch (request.Kind)
            {
                case HostRequest.Facts:
                    lock (known)
                    {
                        known.Clear();
                    }
                    await ReportFactsAsync(connection, known, ended).ConfigureAwait(false);
                    return new HostAnswer(null);
                case HostRequest.Update when request.Release is { } offer:
                    return new HostAnswer(BeginUpdate(connection, offer, ended));
                case HostRequest.BeginScan when request.Scan is { } scan:
                    return new HostAnswer(BeginScan(connection, scan, ended));
                case HostRequest.CancelScan when request.Scan is { } scan:
                    if (scans.TryGetValue(scan.ScanId, out var running))
                    {
                        await running.CancelAsync().ConfigureAwait(false);
                    }
                    return new HostAnswer(null);
                case HostRequest.BeginLook when request.Look is { Probe: not null } look:
                    return new HostAnswer(BeginLook(connection, look, ended));
                case HostRequest.Shells:
                    return new HostAnswer(null, shells.List());
                case HostRequest.Screens:
                    return new HostAnswer(null, Screens: desktops.List());
                case HostRequest.TypeSecret when request.Typing is { Text: not null, SessionIds: not null } typing:
                    return new HostAnswer(await desktops.TypeAsync(typing, ended).ConfigureAwait(false));
                case HostRequest.EndShell when request.ShellId is { } shellId:
                    return new HostAnswer(shells.End(shellId) ? null : "That shell has ended already.");
                case HostRequest.Ping:
                    return new HostAnswer(null);
                default:
                    return new HostAnswer($"This agent (version {platform.AgentVersion}) does not know the request '{request.Kind}'. Update it.");
            }
        }
        catch (Exception e) when (e is not OutOfMemoryException)
        {
            log.Warning($"request '{request.Kind}' failed: {e.Message}");
            return new HostAnswer("The host could not answer; its agent's log says why.");
        }
    }

    /// <summary>Takes an update up and answers at once; the agent ends when the new program is in its place.</summary>
    private string? BeginUpdate(HubConnection connection, ReleaseOffer offer, CancellationToken ended)
    {
        if (update is null)
        {
            return "This agent was not installed with 'umbrek-agent install', so it can't replace itself. Update it by hand.";
        }
        if (update.Check(offer, identity.ReleaseKey) is { } problem)
        {
            log.Warning($"an update was refused: {problem}");
            return problem;
        }
        if (Interlocked.Exchange(ref updating, 1) != 0)
        {
            return null;
        }
        _ = UpdateAsync(connection, offer, ended);
        return null;
    }

    private async Task UpdateAsync(HubConnection connection, ReleaseOffer offer, CancellationToken ended)
    {
        try
        {
            using var http = new HttpClient(ApiClient.Handler(identity.Service.Scheme == Uri.UriSchemeHttp ? null : identity.NewPin())) { BaseAddress = ApiClient.Root(identity.Service) };
            await update!.ReplaceAsync(offer, http, ended).ConfigureAwait(false);
            log.Info($"version {offer.Manifest.Version} is in its place; starting again with it");
            restart?.Invoke();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or OperationCanceledException)
        {
            log.Warning($"the update to {offer.Manifest.Version} did not come off: {e.Message}");
            if (!ended.IsCancellationRequested)
            {
                await connection.SendAsync(ToService.UpdateEnded, new UpdateReport(offer.Manifest.Version, WentBack: false, e.Message), CancellationToken.None).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
        finally
        {
            Volatile.Write(ref updating, 0);
        }
    }

    /// <summary>Answers at once: a look takes longer than a link may stand still for.</summary>
    private string? BeginLook(HubConnection connection, LookOrder order, CancellationToken ended)
    {
        if (Interlocked.Increment(ref looking) > MostLooks)
        {
            Interlocked.Decrement(ref looking);
            return $"This host tries {MostLooks} other looks just now.";
        }
        _ = LookAsync(connection, order, ended);
        return null;
    }

    private async Task LookAsync(HubConnection connection, LookOrder order, CancellationToken ended)
    {
        try
        {
            var found = await probes.TryAsync(order.Probe, ended).ConfigureAwait(false);
            await connection.SendAsync(ToService.ProbeTried, new ProbeTried(order.TrialId, found), ended).ConfigureAwait(false);
        }
        catch (Exception e) when (e is not OutOfMemoryException)
        {
            log.Warning($"what a look found could not be told: {e.Message}");
        }
        finally
        {
            Interlocked.Decrement(ref looking);
        }
    }

    private string? BeginScan(HubConnection connection, ScanOrder order, CancellationToken ended)
    {
        if (order.Ports is not { Count: > 0 and <= 16 } || order.ProbesPerSecond is < 1 or > 500 || order.Last < order.First || order.Last - order.First >= AddressRange.MostAddresses)
        {
            return "The scan is larger or faster than this agent does.";
        }
        if (!scans.IsEmpty)
        {
            return "This host is scanning already.";
        }
        var stop = CancellationTokenSource.CreateLinkedTokenSource(ended);
        scans[order.ScanId] = stop;
        _ = ScanAsync(connection, order, stop);
        return null;
    }

    /// <summary>Reports twice a second, or sooner when many have answered.</summary>
    private async Task ScanAsync(HubConnection connection, ScanOrder order, CancellationTokenSource stop)
    {
        var answers = new List<ScanAnswer>();
        var probed = 0;
        var reported = time.GetTimestamp();
        async Task ReportAsync(bool done, string? problem)
        {
            await connection.SendAsync(ToService.ScanReport, new ScanReport(order.ScanId, probed, done, problem, [.. answers]), CancellationToken.None).ConfigureAwait(false);
            answers.Clear();
            reported = time.GetTimestamp();
        }
        try
        {
            await foreach (var answer in platform.ScanAsync(order, stop.Token).ConfigureAwait(false))
            {
                probed++;
                if (answer is not null)
                {
                    answers.Add(answer);
                }
                if (answers.Count == ScanReport.MaxAnswers || time.GetElapsedTime(reported) >= ScanReportInterval)
                {
                    await ReportAsync(false, null).ConfigureAwait(false);
                }
            }
            await ReportAsync(true, null).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // Whoever cancelled it knows.
        }
        catch (Exception e) when (e is System.Net.Sockets.SocketException or IOException or InvalidOperationException)
        {
            log.Warning($"a scan ended early: {e.Message}");
            if (connection.State == HubConnectionState.Connected)
            {
                await ReportAsync(true, $"The host could not go on: {e.Message}").ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
        finally
        {
            scans.TryRemove(order.ScanId, out _);
            stop.Dispose();
        }
    }
}
