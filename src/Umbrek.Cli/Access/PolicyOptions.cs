using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Access;

namespace Umbrek.Cli.Access;

/// <summary>A host policy on the command line: the same words wherever one is given.</summary>
public sealed class PolicyOptions
{
    private static readonly (string Word, ConsentRule Rule)[] Consents = [("never", ConsentRule.Never), ("unless-refused", ConsentRule.UnlessRefused), ("logged-in", ConsentRule.WhenSomebodyIsLoggedIn), ("always", ConsentRule.Always)];
    private static readonly (string Word, NoticeRule Rule)[] Notices = [("none", NoticeRule.None), ("during", NoticeRule.During), ("before", NoticeRule.Before)];
    private static readonly (string Word, RecordRule Rule)[] Records = [("none", RecordRule.None), ("screen", RecordRule.Screen), ("keys", RecordRule.ScreenAndKeys)];
    private static readonly string Acts = string.Join(", ", Enum.GetValues<HostAct>().Select(HostPolicyWords.Word));

    private readonly Option<string?> allow = new("--allow") { Description = $"All that is allowed, separated by commas: {Acts}; or everything, or nothing." };
    private readonly Option<string?> consent = new("--consent") { Description = "When a person there is asked first: never, unless-refused (whoever is logged in, and silence is consent), logged-in or always." };
    private readonly Option<string?> notice = new("--notice") { Description = "When a person there is told: none, during or before." };
    private readonly Option<string?> keyFor = new("--key-for") { Description = "What takes the host's access key, in the words of --allow." };
    private readonly Option<int?> putOff = new("--put-off") { Description = "How many minutes, in all, people there may put off a restart; 0 for not at all.", HelpName = "minutes" };
    private readonly Option<string?> filesIn = new("--files-in") { Description = "Whole paths of the folders, separated by commas, that technicians are let into to read and change files; or everywhere, or nowhere.", HelpName = "folders" };
    private readonly Option<string?> record = new("--record") { Description = "What is recorded of shells: none, screen (what they show), or keys (what is typed as well)." };

    private readonly Option<string?> giveScreen = new("--give-screen") { Description = "Whether a computer without a screen is given one when a technician comes to control it: yes or no." };

    public PolicyOptions()
    {
        consent.AcceptOnlyFromAmong([.. Consents.Select(c => c.Word)]);
        notice.AcceptOnlyFromAmong([.. Notices.Select(n => n.Word)]);
        giveScreen.AcceptOnlyFromAmong("yes", "no");
        record.AcceptOnlyFromAmong([.. Records.Select(r => r.Word)]);
    }

    public IEnumerable<Option> All => [allow, consent, notice, keyFor, putOff, record, filesIn, giveScreen];

    /// <summary>What was given; the rest is null.</summary>
    public HostPolicyPart Read(ParseResult parsed) => new(
        parsed.GetValue(allow) is { } acts ? ReadActs(acts) : null,
        parsed.GetValue(consent) is { } c ? Consents.First(x => x.Word == c).Rule : null,
        parsed.GetValue(notice) is { } n ? Notices.First(x => x.Word == n).Rule : null,
        parsed.GetValue(keyFor) is { } keys ? ReadActs(keys) : null,
        parsed.GetValue(putOff) is not { } minutes ? null : minutes is >= 0 and <= HostPolicy.MostPutOffMinutes ? minutes : throw new ClientException($"A restart is put off by 0 to {HostPolicy.MostPutOffMinutes} minutes, not {minutes}.", ExitCodes.WrongUse),
        parsed.GetValue(record) is { } r ? Records.First(x => x.Word == r).Rule : null,
        parsed.GetValue(filesIn) is { } folders ? ReadRoots(folders) : null,
        parsed.GetValue(giveScreen) is { } gives ? gives == "yes" : null);

    private static IReadOnlyList<string> ReadRoots(string words)
    {
        var (roots, problem) = HostPolicyWords.ReadRoots(words);
        return roots ?? throw new ClientException(problem!, ExitCodes.WrongUse);
    }

    private static HostAct[] ReadActs(string words) => words switch
    {
        "nothing" or "none" => [],
        "everything" => Enum.GetValues<HostAct>(),
        _ => [.. words.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(w => HostPolicyWords.Read(w)
            ?? throw new ClientException($"'{w}' is nothing that can be allowed; there are {Acts}.", ExitCodes.WrongUse)).Distinct().Order()],
    };
}
