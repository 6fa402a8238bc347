namespace Umbrek.Core.Access;

/// <summary>One thing that one may do; a grant gives it on a group and everything below.</summary>
public enum Permission
{
    See,
    Watch,
    Control,
    Shell,
    Run,

    /// <summary>Without it commands and shells run as the agent's own user.</summary>
    ChooseUser,
    ReadFiles,
    WriteFiles,
    Power,
    Software,
    Scan,
    Configure,
    UseSecrets,
    RevealSecrets,
    Approve,
    Administer,
}

/// <summary>Several permissions as one word of bits: asking for one costs a shift.</summary>
public readonly record struct PermissionSet(uint Bits)
{
    private static readonly Permission[] Known = Enum.GetValues<Permission>();

    public static PermissionSet None => default;

    public static PermissionSet All { get; } = Of(Known);

    public static PermissionSet Of(params ReadOnlySpan<Permission> permissions)
    {
        var bits = 0u;
        foreach (var permission in permissions)
        {
            bits |= 1u << (int)permission;
        }
        return new PermissionSet(bits);
    }

    public bool Contains(Permission permission) => (Bits & (1u << (int)permission)) != 0;

    public bool Includes(PermissionSet other) => (Bits & other.Bits) == other.Bits;

    public PermissionSet Without(PermissionSet other) => new(Bits & ~other.Bits);

    public static PermissionSet operator |(PermissionSet a, PermissionSet b) => new(a.Bits | b.Bits);

    public static PermissionSet operator &(PermissionSet a, PermissionSet b) => new(a.Bits & b.Bits);

    /// <summary>In the order of <see cref="Permission"/>.</summary>
    public IReadOnlyList<Permission> List()
    {
        var bits = this;
        return [.. Known.Where(p => bits.Contains(p))];
    }
}

/// <summary>Permissions in plain words.</summary>
public static class PermissionWords
{
    /// <summary>What one may do, ready for the name of a host, a group or a customer: "run commands on" …</summary>
    public static string Verb(Permission permission) => permission switch
    {
        Permission.See => "see",
        Permission.Watch => "watch the screen of",
        Permission.Control => "use mouse and keyboard of",
        Permission.Shell => "open a shell on",
        Permission.Run => "run commands on",
        Permission.ChooseUser => "choose the system user on",
        Permission.ReadFiles => "read files of",
        Permission.WriteFiles => "change files of",
        Permission.Power => "restart or shut down",
        Permission.Software => "install software on",
        Permission.Scan => "look for computers from",
        Permission.Configure => "change what is kept of",
        Permission.UseSecrets => "use secrets of",
        Permission.RevealSecrets => "read secrets of",
        Permission.Approve => "let computers join at",
        Permission.Administer => "say who gets in at",
        _ => permission.ToString(),
    };

    /// <summary>The word by which a permission is written: "read-files".</summary>
    public static string Word(Permission permission) => string.Concat(permission.ToString().Select((c, i) => char.IsUpper(c) && i > 0 ? $"-{char.ToLowerInvariant(c)}" : $"{char.ToLowerInvariant(c)}"));

    /// <returns>The permission of a word, or null.</returns>
    public static Permission? Read(string word) =>
        Enum.GetValues<Permission>().Where(p => Word(p).Equals(word.Trim(), StringComparison.OrdinalIgnoreCase)).Select(p => (Permission?)p).FirstOrDefault();
}
