using System.Globalization;
using Microsoft.Win32.SafeHandles;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Owners of files, by name or by number.</summary>
internal static class LinuxOwner
{
    /// <summary>Leaves an owner as it is (chown(2)).</summary>
    public const uint AsItIs = uint.MaxValue;

    public static uint UserOf(string? name) => Find(name, n => Native.FindUser(n)?.Id, "user");

    public static uint GroupOf(string? name) => Find(name, Native.FindGroup, "group");

    /// <summary>What is new belongs to whoever its folder belongs to; an agent that may not give things away keeps them.</summary>
    public static void Inherit(SafeFileHandle made, SafeFileHandle folder)
    {
        var (stat, error) = NativeFiles.LookAt(folder);
        if (error == 0)
        {
            _ = NativeFiles.SetOwner(made, stat.User, stat.Group);
        }
    }

    private static uint Find(string? name, Func<string, uint?> find, string what) =>
        string.IsNullOrEmpty(name) ? AsItIs
        : find(name) ?? (uint.TryParse(name, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number != AsItIs ? number : throw new IOException($"There is no {what} '{name}' on this host."));
}
