using System.Security.Cryptography;
using System.Text;
using Umbrek.Agent.Health;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Jobs;

namespace Umbrek.Simulation.Health;

/// <summary>What probes find on a made-up computer: its services, programs and neighbours as its story has them; scripts are answered as commands are.</summary>
public sealed class SimulatedProber(SimulatedHost host, SimulatedPlatform platform, TimeProvider time) : IProber
{
    /// <summary>Certificates that somebody forgot, by who shows them, with the days they last from the first of the month on.</summary>
    private const string ForgottenShop = "shop.tarnvalley.example";
    private static readonly TimeSpan ShopLasts = TimeSpan.FromDays(9.4);

    private static readonly string[] Everywhere = ["ssh", "cron", "rsyslog"];

    private readonly DateTimeOffset began = time.GetUtcNow();

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        // Everything takes a moment.
        var took = TimeSpan.FromMilliseconds(2 + Part(probe.Target, 9) + Random.Shared.Next(4));
        await Task.Delay(took, time, cancel).ConfigureAwait(false);
        var figure = new ProbeFigure("took", took.TotalSeconds, Dimension.Time);
        return probe.Kind switch
        {
            ProbeKind.Service => Service(probe.Target),
            ProbeKind.Program => ProbeReading.Well($"1 of {probe.Target} runs.", new ProbeFigure("count", 1, Dimension.Count)),
            ProbeKind.Port => ProbeReading.Well($"{probe.Target} took a connection in {took.TotalMilliseconds:0} ms.", figure),
            ProbeKind.Web => ProbeReading.Well($"{probe.Target} answered 200 in {took.TotalMilliseconds * 4:0} ms.", new ProbeFigure("status", 200, Dimension.Count), figure with { Value = figure.Value * 4 }),
            ProbeKind.Ping => ProbeReading.Well($"{probe.Target} answered 3 of 3 echoes, in {took.TotalMilliseconds / 2:0} ms.", new ProbeFigure("lost", 0, Dimension.Percent), figure with { Value = figure.Value / 2 }),
            ProbeKind.Log => Log(probe.Target),
            ProbeKind.Script => await ScriptAsync(probe.Text!, cancel).ConfigureAwait(false),
            _ => Certificate(probe.Target),
        };
    }

    public async Task<ProbeReading> HelpAsync(Probe probe, CancellationToken cancel)
    {
        var (output, status) = await RunAsync(probe.Act == ProbeAct.Restart ? $"systemctl restart {probe.Target}" : probe.ActScript!, cancel).ConfigureAwait(false);
        return probe.Act == ProbeAct.Restart ? ProbeReading.Well($"service {probe.Target} was started again.")
            : status == 0 ? ProbeReading.Well("the script that should help ran.") : ProbeReading.Failed($"the script that should help ended with {status}: {output.Trim()}.");
    }

    private ProbeReading Service(string name)
    {
        name = name.EndsWith(".service", StringComparison.Ordinal) ? name[..^".service".Length] : name;
        var has = Everywhere.Contains(name) || name == host.Kind switch
        {
            HostKind.Kiosk when host.GroupPath.Contains("Ticketing", StringComparison.Ordinal) => "ticket-print",
            HostKind.Till => "till",
            HostKind.Server => "smbd",
            HostKind.Capture => "capture",
            HostKind.Logger => "climate-log",
            _ => "",
        };
        return !has ? ProbeReading.Unknown($"There is no service {name} on this host.")
            : name == "ticket-print" && platform.PrinterFailed ? ProbeReading.Failed($"Service {name} has failed (exit-code).")
            : ProbeReading.Well($"Service {name} runs.");
    }

    private ProbeReading Log(string path)
    {
        var hot = host.Story == HostStory.RunsHot;
        var lines = new ProbeFigure("lines", hot ? 3 : 0, Dimension.Count);
        return hot ? ProbeReading.Failed($"3 such lines in {path} within {Units.Span(Probe.MatchCounts)}, the last: {time.GetUtcNow():HH:mm:ss} frame dropped: sensor at 91 °C", lines)
            : ProbeReading.Well($"No such line in {path} within {Units.Span(Probe.MatchCounts)}.", lines);
    }

    private ProbeReading Certificate(string target)
    {
        var name = HostAndPort.Read(target)?.Host ?? target;
        var until = began + (name == ForgottenShop ? ShopLasts : TimeSpan.FromDays(40 + Part(name, 45)));
        var left = until - time.GetUtcNow();
        return ProbeReading.Well($"The certificate of {name} lasts {Units.Span(left)} more, until {until:yyyy-MM-dd}.", new ProbeFigure("left", left.TotalSeconds, Dimension.Time));
    }

    private async Task<ProbeReading> ScriptAsync(string script, CancellationToken cancel)
    {
        var (output, status) = await RunAsync(script, cancel).ConfigureAwait(false);
        var (says, figures) = ScriptFigures.Read(output);
        says = says.Length == 0 ? "" : $": {says}";
        figures = [new ProbeFigure("exit", status, Dimension.Count), .. figures];
        return new ProbeReading(status == 0 ? ProbeState.Well : ProbeState.Failed, $"The script ended with {status}{says}.", figures);
    }

    private async Task<(string Output, int Status)> RunAsync(string script, CancellationToken cancel)
    {
        using var running = new SimulatedCommandRunner(host, platform, time).Start(new CommandSpec { Line = script });
        await using var registered = cancel.Register(() => running.Terminate(force: true)).ConfigureAwait(false);
        using var stdout = new StreamReader(running.Stdout);
        using var stderr = new StreamReader(running.Stderr);
        var texts = await Task.WhenAll(stdout.ReadToEndAsync(cancel), stderr.ReadToEndAsync(cancel)).ConfigureAwait(false);
        return (string.Concat(texts), (await running.Ended.ConfigureAwait(false)).ExitStatus ?? 255);
    }

    /// <summary>A number below <paramref name="most"/> that is this host's own, and stays.</summary>
    private int Part(string what, int most) => SHA256.HashData(Encoding.UTF8.GetBytes($"{what} {host.Name}"))[0] % most;
}
