using System.CommandLine;
using Umbrek.Core.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>How the hosts of a job take turns.</summary>
public sealed class PaceOptions
{
    private readonly Option<int?> atOnce = new("--at-once") { Description = "Runs on at most so many hosts at the same time.", HelpName = "number" };
    private readonly Option<bool> onePerGroup = new("--one-per-group") { Description = "Runs on at most one host of each group at the same time." };
    private readonly Option<int?> stopAfter = new("--stop-after") { Description = "Begins on no further host when so many have failed.", HelpName = "failures" };

    public IEnumerable<Option> All => [atOnce, onePerGroup, stopAfter];

    /// <returns>Null when all hosts run it at once, whatever happens.</returns>
    public RunPace? Read(ParseResult parsed)
    {
        var pace = new RunPace(parsed.GetValue(atOnce), parsed.GetValue(onePerGroup), parsed.GetValue(stopAfter));
        return pace == new RunPace() ? null : pace;
    }
}
