using System.Text.Json.Serialization;

namespace Umbrek.Core.Access;

/// <summary>Something that a technician may do on a host, as far as the host's own side goes.</summary>
public enum HostAct
{
    Watch,
    Control,
    Shell,
    Run,
    ReadFiles,
    WriteFiles,
    Power,
    Software,
}

/// <summary>When a person at the host is asked first. Ordered from least to most.</summary>
public enum ConsentRule
{
    Never,

    /// <summary>Whoever is logged in is asked, and silence is consent.</summary>
    UnlessRefused,
    WhenSomebodyIsLoggedIn,
    Always,
}

/// <summary>What a policy's consent comes to, with the people who are there.</summary>
public enum ConsentNeed
{
    None,
    Ask,

    /// <summary>A person has to be asked, and none is logged in.</summary>
    NobodyToAsk,
}

/// <summary>When a person at the host learns that somebody is there. Ordered from least to most.</summary>
public enum NoticeRule
{
    None,

    /// <summary>While it lasts.</summary>
    During,

    /// <summary>Before it begins, and while it lasts.</summary>
    Before,
}

/// <summary>What is kept of shells and desktops, to be looked at again. Ordered from least to most.</summary>
public enum RecordRule
{
    None,

    /// <summary>What they show, and where the pointer is.</summary>
    Screen,

    /// <summary>What is typed as well, with whatever a program does not show of it: passwords too.</summary>
    ScreenAndKeys,
}

/// <summary>How a new host gets its access key.</summary>
public enum AccessKeyRule
{
    /// <summary>It has none until somebody sets one.</summary>
    None,

    /// <summary>The person who installs the agent chooses it; the service never sees it.</summary>
    AskAtInstall,

    /// <summary>The host makes one and puts it into the service's vault.</summary>
    Generate,
}

/// <summary>What a host's side allows. It lies on the host, and the agent keeps to it whatever the service orders.</summary>
/// <param name="KeyFor">Acts that take a proof of the host's access key; null from before there were such.</param>
/// <param name="PutOffMinutes">How long, in all, people there may put off that their computer is restarted, shut down or put to sleep; null and 0: not at all.</param>
/// <param name="Record">What the service records of shells and desktops; null from before they could be.</param>
/// <param name="FileRoots">Folders that technicians are let into to read and change files, with all below them; null is everywhere.</param>
/// <param name="GiveScreen">Whether the host is given a screen, where it has none, when a technician comes to control it; null is yes.</param>
public sealed record HostPolicy(IReadOnlyList<HostAct> Allowed, ConsentRule Consent, NoticeRule Notice = NoticeRule.None, IReadOnlyList<HostAct>? KeyFor = null, int? PutOffMinutes = null, RecordRule? Record = null, IReadOnlyList<string>? FileRoots = null, bool? GiveScreen = null)
{
    public const int MostPutOffMinutes = 24 * 60;

    public static HostPolicy Everything { get; } = new(Enum.GetValues<HostAct>(), ConsentRule.Never, NoticeRule.None, []);

    public static HostPolicy Nothing { get; } = Everything with { Allowed = [] };

    public bool Allows(HostAct act) => Allowed.Contains(act);

    /// <summary>Whether the act takes a proof of the access key.</summary>
    public bool AsksKey(HostAct act) => KeyFor?.Contains(act) == true;

    /// <summary>Whether a person has to agree first.</summary>
    public ConsentNeed ConsentWith(bool somebodyIsLoggedIn) => (Consent, somebodyIsLoggedIn) switch
    {
        (ConsentRule.Never, _) or (ConsentRule.UnlessRefused or ConsentRule.WhenSomebodyIsLoggedIn, false) => ConsentNeed.None,
        (ConsentRule.Always, false) => ConsentNeed.NobodyToAsk,
        _ => ConsentNeed.Ask,
    };

    /// <summary>The same policy with each act once and in one order, or null when it is not usable.</summary>
    public HostPolicy? Normalise() =>
        Allowed is null || !Enum.IsDefined(Consent) || !Enum.IsDefined(Notice) || (Record is { } r && !Enum.IsDefined(r)) || PutOffMinutes is < 0 or > MostPutOffMinutes || Allowed.Concat(KeyFor ?? []).Any(a => !Enum.IsDefined(a)) || (FileRoots is not null && Files.FileRoots.Normalise(FileRoots) is null)
            ? null
            : this with { Allowed = Ordered(Allowed), KeyFor = Ordered(KeyFor ?? []), FileRoots = FileRoots is null ? null : Files.FileRoots.Normalise(FileRoots) };

    /// <summary>What a place says of its own, laid over this.</summary>
    public HostPolicy With(HostPolicyPart part) => new(part.Allowed ?? Allowed, part.Consent ?? Consent, part.Notice ?? Notice, part.KeyFor ?? KeyFor, part.PutOffMinutes ?? PutOffMinutes, part.Record ?? Record, Files.FileRoots.Plain(part.FileRoots ?? FileRoots), part.GiveScreen ?? GiveScreen);

    /// <summary>Only what both allow, and whatever either asks for.</summary>
    public HostPolicy NarrowedBy(HostPolicyPart limit) => new(
        limit.Allowed is null ? Allowed : Ordered(Allowed.Intersect(limit.Allowed)),
        limit.Consent is { } consent && consent > Consent ? consent : Consent,
        limit.Notice is { } notice && notice > Notice ? notice : Notice,
        Ordered((KeyFor ?? []).Union(limit.KeyFor ?? [])),
        limit.PutOffMinutes > (PutOffMinutes ?? 0) ? limit.PutOffMinutes : PutOffMinutes,
        limit.Record > (Record ?? RecordRule.None) ? limit.Record : Record,
        Files.FileRoots.Plain(Files.FileRoots.Intersect(FileRoots, limit.FileRoots)),
        limit.GiveScreen == false ? false : GiveScreen);

    public HostPolicyPart ToPart() => new(Allowed, Consent, Notice, KeyFor, PutOffMinutes, Record, FileRoots, GiveScreen);

    /// <summary>What is left of it as a limit: only what it narrows.</summary>
    public HostPolicyPart ToLimit() => new(
        Enum.GetValues<HostAct>().All(Allows) ? null : Allowed,
        Consent == ConsentRule.Never ? null : Consent,
        Notice == NoticeRule.None ? null : Notice,
        KeyFor is { Count: > 0 } ? KeyFor : null,
        PutOffMinutes > 0 ? PutOffMinutes : null,
        Record > RecordRule.None ? Record : null,
        FileRoots,
        GiveScreen == false ? false : null);

    public bool Equals(HostPolicy? other) =>
        other is not null && Consent == other.Consent && Notice == other.Notice && (PutOffMinutes ?? 0) == (other.PutOffMinutes ?? 0) && (Record ?? RecordRule.None) == (other.Record ?? RecordRule.None) && (GiveScreen ?? true) == (other.GiveScreen ?? true) && Allowed.SequenceEqual(other.Allowed) && (KeyFor ?? []).SequenceEqual(other.KeyFor ?? []) && Files.FileRoots.Same(FileRoots, other.FileRoots);

    public override int GetHashCode() => Allowed.Concat(KeyFor ?? []).Aggregate(HashCode.Combine(Consent, Notice), (hash, act) => HashCode.Combine(hash, act));

    private static HostAct[] Ordered(IEnumerable<HostAct> acts) => [.. acts.Distinct().Order()];
}

/// <summary>A part of a policy, as one place says it: what is null comes from above. As a limit, what is null limits nothing.</summary>
public sealed record HostPolicyPart(IReadOnlyList<HostAct>? Allowed = null, ConsentRule? Consent = null, NoticeRule? Notice = null, IReadOnlyList<HostAct>? KeyFor = null, int? PutOffMinutes = null, RecordRule? Record = null, IReadOnlyList<string>? FileRoots = null, bool? GiveScreen = null)
{
    public static HostPolicyPart Inherit { get; } = new();

    [JsonIgnore]
    public bool SaysNothing => this is { Allowed: null, Consent: null, Notice: null, KeyFor: null, PutOffMinutes: null, Record: null, FileRoots: null, GiveScreen: null };

    /// <summary>The same part with each act once and in one order, or null when it is not usable.</summary>
    public HostPolicyPart? Normalise() =>
        (Consent is { } c && !Enum.IsDefined(c)) || (Notice is { } n && !Enum.IsDefined(n)) || (Record is { } r && !Enum.IsDefined(r)) || PutOffMinutes is < 0 or > HostPolicy.MostPutOffMinutes || (Allowed ?? []).Concat(KeyFor ?? []).Any(a => !Enum.IsDefined(a)) || (FileRoots is not null && Files.FileRoots.Normalise(FileRoots) is null)
            ? null
            : this with { Allowed = Allowed is null ? null : [.. Allowed.Distinct().Order()], KeyFor = KeyFor is null ? null : [.. KeyFor.Distinct().Order()], FileRoots = FileRoots is null ? null : Files.FileRoots.Normalise(FileRoots) };

    public bool Equals(HostPolicyPart? other) =>
        other is not null && Consent == other.Consent && Notice == other.Notice && PutOffMinutes == other.PutOffMinutes && Record == other.Record && GiveScreen == other.GiveScreen && Same(Allowed, other.Allowed) && Same(KeyFor, other.KeyFor) && Files.FileRoots.Same(FileRoots, other.FileRoots);

    public override int GetHashCode() => HashCode.Combine(Consent, Notice, Allowed?.Count, KeyFor?.Count);

    private static bool Same(IReadOnlyList<HostAct>? a, IReadOnlyList<HostAct>? b) => a is null ? b is null : b is not null && a.SequenceEqual(b);
}

/// <summary>The acts of a policy in plain words, for the person whose computer it is.</summary>
public static class HostPolicyWords
{
    public static string Describe(HostAct act) => act switch
    {
        HostAct.Watch => "see the screen",
        HostAct.Control => "use mouse and keyboard",
        HostAct.Shell => "open a terminal",
        HostAct.Run => "run commands",
        HostAct.ReadFiles => "read and copy files",
        HostAct.WriteFiles => "change and add files",
        HostAct.Power => "restart and shut down",
        HostAct.Software => "install and update programs",
        _ => act.ToString(),
    };

    public static string Describe(ConsentRule rule) => rule switch
    {
        ConsentRule.Always => "a person at the computer is asked every time",
        ConsentRule.WhenSomebodyIsLoggedIn => "whoever is logged in is asked first",
        ConsentRule.UnlessRefused => "whoever is logged in is asked first, and who does not answer has agreed",
        _ => "nobody is asked first",
    };

    public static string DescribeRoots(IReadOnlyList<string>? roots) => roots is null ? "everywhere" : roots.Count == 0 ? "nowhere" : Files.FileRoots.Words(roots);

    /// <summary>Folders as people write them: "/srv, /home", "everywhere" or "nowhere".</summary>
    /// <returns>What is wrong, or the folders.</returns>
    public static (IReadOnlyList<string>? Roots, string? Problem) ReadRoots(string words)
    {
        string[] roots = words switch
        {
            "everywhere" => ["/"],
            "nowhere" => [],
            _ => words.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries),
        };
        return roots.Select(Files.FileRoots.Check).FirstOrDefault(p => p is not null) is { } problem ? (null, problem)
            : Files.FileRoots.Normalise(roots) is { } tidy ? (tidy, null)
            : (null, $"{roots.Length} folders are named; at most {Files.FileRoots.Most} make a rule.");
    }

    public static string Describe(NoticeRule rule) => rule switch
    {
        NoticeRule.Before => "told before and while somebody is there",
        NoticeRule.During => "told while somebody is there",
        _ => "not told",
    };

    public static string Describe(RecordRule rule) => rule switch
    {
        RecordRule.ScreenAndKeys => "what shells and desktops show and what is typed there is recorded",
        RecordRule.Screen => "what shells and desktops show is recorded",
        _ => "nothing is recorded",
    };

    public static string DescribeGiveScreen(bool? gives) => gives == false ? "a computer without a screen is left without" : "a computer without a screen is given one when a technician comes to control it";

    /// <summary>How far people may put off that their computer goes down.</summary>
    public static string DescribePutOff(int? minutes) => minutes is > 0 ? $"people there may put a restart off, by {Text.Units.Span(TimeSpan.FromMinutes(minutes.Value))} in all" : "people there can't put a restart off";

    /// <summary>The word by which an act is written: "read-files".</summary>
    public static string Word(HostAct act) => PermissionWords.Word(Enum.Parse<Permission>(act.ToString()));

    /// <returns>The act of a word, or null.</returns>
    public static HostAct? Read(string word) =>
        Enum.GetValues<HostAct>().Where(a => Word(a).Equals(word.Trim(), StringComparison.OrdinalIgnoreCase)).Select(a => (HostAct?)a).FirstOrDefault();

    /// <summary>Acts in words: "run, power"; "everything"; "nothing".</summary>
    public static string List(IReadOnlyList<HostAct> acts) =>
        acts.Count == 0 ? "nothing" : acts.Count == Enum.GetValues<HostAct>().Length ? "everything" : string.Join(", ", acts.Select(Word));
}
