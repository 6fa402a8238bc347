using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>How long what commands put out is kept. What became of them is kept without end.</summary>
public sealed class OutputTerm(ServiceOptions options, TimeProvider time)
{
    public int Days => options.OutputDays;

    /// <summary>What ended before is kept no longer.</summary>
    public DateTimeOffset Before => time.GetUtcNow() - TimeSpan.FromDays(Days);

    /// <param name="jobCreatedAt">By the service's clock: a host whose clock is wrong by a year may have ended before it was asked.</param>
    public bool IsOver(RunRow run, DateTimeOffset jobCreatedAt) => run.StdoutBytes + run.StderrBytes > 0 && run.EndedAt < Before && jobCreatedAt < Before;

    /// <exception cref="ProblemException">410: it is kept no longer.</exception>
    public void Check(RunInfo run)
    {
        if (run.OutputGone)
        {
            throw new ProblemException(StatusCodes.Status410Gone, ProblemTypes.NotFound, $"What {run.HostLabel} printed is not kept any longer: output goes {Days} days after its end.");
        }
    }
}
