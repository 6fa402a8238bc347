using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Health;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Platform.Linux.Probes;

/// <summary>Runs a script as the agent's user, gently: status 0 is well, and lines like <c>queue=14</c> are figures.</summary>
public sealed class ScriptProbe(StateDirectory state) : IProbe
{
    private const int CannotRun = 126;
    private const int MostPrinted = 1024 * 1024;

    public ProbeKind Kind => ProbeKind.Script;

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        var end = await LinuxScript.RunTextAsync(probe.Text!, state.Path, gently: true, cancel).ConfigureAwait(false);
        var (says, figures) = ScriptFigures.Read(end.Output);
        says = says.Length == 0 ? "" : $": {says}";
        var much = end.Bytes > MostPrinted ? $" It printed {Units.Bytes(end.Bytes)}; only the beginning was read." : "";
        figures = [new ProbeFigure("exit", end.Status, Core.Estate.Dimension.Count), .. figures.Where(f => f.Name != "exit")];
        return end.Status == 0 ? new ProbeReading(ProbeState.Well, $"The script ended with 0{says}.{much}", figures)
            : end.Status is CannotRun or CannotRun + 1 ? new ProbeReading(ProbeState.Unknown, $"The script could not be run{says}.{much}", figures)
            : new ProbeReading(ProbeState.Failed, $"The script ended with {end.Status}{says}.{much}", figures);
    }

    /// <summary>What helps: a script, or the service started again.</summary>
    public async Task<ProbeReading> HelpAsync(Probe probe, CancellationToken cancel)
    {
        if (probe.Act == ProbeAct.Restart)
        {
            return await LinuxServices.RestartAsync(probe.Target, cancel).ConfigureAwait(false);
        }
        var end = await LinuxScript.RunTextAsync(probe.ActScript!, state.Path, gently: false, cancel).ConfigureAwait(false);
        var (says, _) = ScriptFigures.Read(end.Output);
        says = says.Length == 0 ? "." : $": {says}.";
        return end.Status == 0 ? ProbeReading.Well($"the script that should help ran{says}") : ProbeReading.Failed($"the script that should help ended with {end.Status}{says}");
    }
}
