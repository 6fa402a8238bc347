using Umbrek.Cli.Hosting;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Modes and owners as they are written on a command line.</summary>
public static class FileModes
{
    /// <summary>"0640" or "640".</summary>
    public static int? Read(string? text)
    {
        if (text is null)
        {
            return null;
        }
        var isOctal = text.Length is 3 or 4 && text.All(c => c is >= '0' and <= '7');
        return isOctal && Convert.ToInt32(text, 8) is var mode && FileChange.IsMode(mode)
            ? mode
            : throw new ClientException($"'{text}' is no mode; write three digits for owner, group and others, each 4 to read, 2 to write and 1 to execute: 0640.", ExitCodes.WrongUse);
    }

    /// <summary>"kiosk", "kiosk:www-data" or ":www-data".</summary>
    public static (string? User, string? Group) ReadOwner(string? text)
    {
        if (text is null)
        {
            return (null, null);
        }
        var parts = text.Split(':');
        return parts.Length <= 2 && parts.Any(p => p.Length > 0)
            ? (parts[0].Length > 0 ? parts[0] : null, parts.Length > 1 && parts[1].Length > 0 ? parts[1] : null)
            : throw new ClientException($"'{text}' is no owner; write a user, a user and a group as kiosk:www-data, or a group as :www-data.", ExitCodes.WrongUse);
    }
}
