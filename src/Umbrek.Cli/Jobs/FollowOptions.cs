using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>What happens once a job is made: how long it waits, and what is shown of it.</summary>
/// <param name="usual">How long a run waits when nothing is said.</param>
public sealed class FollowOptions(string usual = "1d")
{
    private readonly Option<string?> expires = new("--expires") { Description = $"How long a run waits for a host that is away; {usual} when left out.", HelpName = "time" };
    private readonly Option<bool> detach = new("--detach") { Description = "Start the job, print its id and return." };
    private readonly Option<bool> wait = new("--wait") { Description = "Stay until hosts that are away have run it too." };
    private readonly Option<bool> plain = new("--plain") { Description = "Print the output without the host's name before each line." };
    private readonly Option<bool> fold = new("--fold") { Description = "Print equal answers as one when it has ended, the odd ones first." };

    private readonly Option<string?> passOver = AnswerCommands.PassOver();

    public IEnumerable<Option> All => [expires, detach, wait, plain, fold, passOver];

    public long? Expires(ParseResult parsed) => (long?)HowOptions.Seconds(parsed.GetValue(expires));

    /// <param name="alwaysFolded">Equal answers are one, whether that was asked for or not.</param>
    public async Task<int> FollowAsync(ClientContext client, ParseResult parsed, ApiClient api, JobInfo job, CancellationToken cancel, bool alwaysFolded = false)
    {
        if (parsed.GetValue(detach))
        {
            Listing.PrintOne(client.Format(parsed), job, WireJson.Default.JobInfo, ("Job", $"{job.Id}"), ("Runs", $"{job.Runs.Total}"), ("Follow it", $"umbrek job show --follow {Words.ShortId(job.Id)}"));
            return ExitCodes.Done;
        }
        var folded = alwaysFolded || parsed.GetValue(fold) || parsed.GetValue(passOver) is not null;
        var status = await RunCommand.FollowAsync(client, parsed, job.Id, parsed.GetValue(wait), !parsed.GetValue(plain), cancel, folded).ConfigureAwait(false);
        if (folded && status != ExitCodes.LeftRunning)
        {
            _ = await AnswerCommands.PrintAsync(client, parsed, api, job.Id, parsed.GetValue(passOver), AnswerCommands.UsualLines, cancel).ConfigureAwait(false);
        }
        return status;
    }
}
