using System.Text.RegularExpressions;

namespace Umbrek.Core.Jobs;

/// <summary>Names of users of a host's system (useradd(8): at most 32 characters; domains add a part before or behind).</summary>
public static partial class SystemUserName
{
    public static bool IsOne(string text) => Pattern().IsMatch(text);

    public static string Problem(string text) => $"'{text}' is no name of a system user; write it as 'id -un' prints it.";

    [GeneratedRegex(@"^[A-Za-z0-9_][A-Za-z0-9_.@\\$-]{0,63}$")]
    private static partial Regex Pattern();
}
