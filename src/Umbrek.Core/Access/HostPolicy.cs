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

/// <summary>When a person at the host is asked first.</summary>
public enum ConsentRule
{
    Never,
    WhenSomebodyIsLoggedIn,
    Always,
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
public sealed record HostPolicy(IReadOnlyList<HostAct> Allowed, ConsentRule Consent)
{
    public static HostPolicy Everything { get; } = new(Enum.GetValues<HostAct>(), ConsentRule.Never);

    public bool Allows(HostAct act) => Allowed.Contains(act);

    /// <summary>The same policy with each act once and in one order, or null when it is not usable.</summary>
    public HostPolicy? Normalise() =>
        Allowed is null || !Enum.IsDefined(Consent) || Allowed.Any(a => !Enum.IsDefined(a))
            ? null
            : this with { Allowed = [.. Allowed.Distinct().Order()] };

    public bool Equals(HostPolicy? other) => other is not null && Consent == other.Consent && Allowed.SequenceEqual(other.Allowed);

    public override int GetHashCode() => Allowed.Aggregate((int)Consent, (hash, act) => HashCode.Combine(hash, act));
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
        _ => "nobody is asked first",
    };
}
