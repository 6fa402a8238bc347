using System.CommandLine;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Access;

/// <summary><c>umbrek-agent limit</c>: what the owner of this computer leaves to the service.</summary>
public static class LimitCommand
{
    public static Command Limit()
    {
        var allow = new Option<string?>("--allow") { Description = $"All that may ever be done here, separated by commas: {HostPolicyWords.List([.. Enum.GetValues<HostAct>().SkipLast(1)])}, {HostPolicyWords.Word(HostAct.Software)}; or nothing." };
        var consent = new Option<string?>("--consent") { Description = "When a person here is asked first, at least: never, unless-refused (whoever is logged in, and silence is consent), logged-in or always." };
        consent.AcceptOnlyFromAmong("never", "unless-refused", "logged-in", "always");
        var notice = new Option<string?>("--notice") { Description = "When a person here is told, at least: none, during or before." };
        notice.AcceptOnlyFromAmong("none", "during", "before");
        var keyFor = new Option<string?>("--key-for") { Description = "What always takes the access key, in the words of --allow." };
        var putOff = new Option<int?>("--put-off") { Description = "How many minutes, in all, people here may put off a restart, at least." };
        putOff.Validators.Add(r =>
        {
            if (r.GetValueOrDefault<int?>() is < 0 or > HostPolicy.MostPutOffMinutes)
            {
                r.AddError($"--put-off goes from 0 to {HostPolicy.MostPutOffMinutes} minutes.");
            }
        });
        var record = new Option<string?>("--record") { Description = "What the service records of shells and desktops here, at least: none, screen or keys." };
        record.AcceptOnlyFromAmong("none", "screen", "keys");
        var filesIn = new Option<string?>("--files-in") { Description = "The folders that technicians may be let into at most, by whole paths, separated by commas: /srv,/home." };
        var giveScreen = new Option<string?>("--give-screen") { Description = "Whether this computer, where it has no screen, may be given one for a technician: yes or no." };
        giveScreen.AcceptOnlyFromAmong("yes", "no");
        var remove = new Option<bool>("--remove") { Description = "Leaves everything to the service again." };
        var state = AgentCommands.StateOption();
        var command = new Command("limit", "Shows, or narrows, what the service may have done on this computer; the service can't widen it. Example: umbrek-agent limit --allow watch,run --key-for run")
        {
            allow, consent, notice, keyFor, putOff, record, filesIn, giveScreen, remove, state,
        };
        command.SetAction(parsed =>
        {
            var directory = new StateDirectory(parsed.GetRequiredValue(state));
            var file = directory.LimitFile;
            try
            {
                if (parsed.GetValue(remove))
                {
                    HostLimit.Remove(file);
                }
                else if (parsed.GetValue(allow) is not null || parsed.GetValue(consent) is not null || parsed.GetValue(notice) is not null || parsed.GetValue(keyFor) is not null || parsed.GetValue(putOff) is not null || parsed.GetValue(record) is not null || parsed.GetValue(filesIn) is not null || parsed.GetValue(giveScreen) is not null)
                {
                    // What is not named stays as the file has it, if the file can be relied on.
                    var before = Earlier(file);
                    HostLimit.Write(file, new HostPolicyPart(
                        parsed.GetValue(allow) is { } acts ? ReadActs(acts) : before.Allowed,
                        parsed.GetValue(consent) is { } c ? c switch { "always" => ConsentRule.Always, "logged-in" => ConsentRule.WhenSomebodyIsLoggedIn, "unless-refused" => ConsentRule.UnlessRefused, _ => ConsentRule.Never } : before.Consent,
                        parsed.GetValue(notice) is { } n ? n switch { "before" => NoticeRule.Before, "during" => NoticeRule.During, _ => NoticeRule.None } : before.Notice,
                        parsed.GetValue(keyFor) is { } keys ? ReadActs(keys) : before.KeyFor,
                        parsed.GetValue(putOff) ?? before.PutOffMinutes,
                        parsed.GetValue(record) is { } r ? r switch { "keys" => RecordRule.ScreenAndKeys, "screen" => RecordRule.Screen, _ => RecordRule.None } : before.Record,
                        parsed.GetValue(filesIn) is { } folders ? ReadRoots(folders) : before.FileRoots,
                        parsed.GetValue(giveScreen) is { } gives ? gives == "yes" : before.GiveScreen));
                }
                Console.WriteLine(Describe(file, HostLimit.Read(file)));
                return 0;
            }
            catch (Exception e) when (e is InvalidDataException or ArgumentException or IOException or UnauthorizedAccessException)
            {
                return AgentCommands.Complain(e is UnauthorizedAccessException ? $"{file} can be written by root alone: put sudo in front." : e.Message);
            }
        });
        return command;
    }

    private static HostPolicyPart Earlier(string file)
    {
        try
        {
            return HostLimit.Read(file) ?? HostPolicyPart.Inherit;
        }
        catch (InvalidDataException e)
        {
            Console.Error.WriteLine($"{e.Message} What it said is not taken over.");
            return HostPolicyPart.Inherit;
        }
    }

    private static IReadOnlyList<string> ReadRoots(string words)
    {
        var (roots, problem) = HostPolicyWords.ReadRoots(words);
        return roots ?? throw new ArgumentException(problem);
    }

    private static HostAct[] ReadActs(string words) => words is "nothing" or "none" ? [] :
        [.. words.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(w => HostPolicyWords.Read(w)
            ?? throw new ArgumentException($"'{w}' is nothing that can be allowed; there are {string.Join(", ", Enum.GetValues<HostAct>().Select(HostPolicyWords.Word))}.")).Distinct().Order()];

    private static string Describe(string file, HostPolicyPart? limit) => limit is null or { SaysNothing: true }
        ? $"This computer sets no limit of its own ({file} is not there); the service decides what is allowed."
        : $"""
            Limits in {file}, which the service can't widen:
            Allowed at most  {(limit.Allowed is null ? "what the service allows" : limit.Allowed.Count == 0 ? "nothing" : string.Join(", ", limit.Allowed.Select(HostPolicyWords.Describe)))}
            Consent          {(limit.Consent is { } consent ? HostPolicyWords.Describe(consent) : "as the service says")}
            Notice           {(limit.Notice is { } notice ? HostPolicyWords.Describe(notice) : "as the service says")}
            Access key for   {(limit.KeyFor is { Count: > 0 } keys ? string.Join(", ", keys.Select(HostPolicyWords.Describe)) : "what the service says")}
            Restart          {(limit.PutOffMinutes is { } minutes ? HostPolicyWords.DescribePutOff(minutes) : "as the service says")}
            Recording        {(limit.Record is { } rule ? HostPolicyWords.Describe(rule) : "as the service says")}
            Files in         {(limit.FileRoots is { } roots ? HostPolicyWords.DescribeRoots(roots) : "what the service says")}
            Screen           {(limit.GiveScreen == false ? HostPolicyWords.DescribeGiveScreen(false) : "as the service says")}
            """;
}
