namespace Umbrek.Cli.Shell;

/// <summary>What a person asked for with the leading key.</summary>
public enum ShellKey
{
    Leave,
    End,
    Where,
    Help,
}

/// <summary>
/// Parts what is typed into bytes for the host and the client's own keys: Ctrl-_ and a letter. Ctrl-_ twice sends it once.
/// </summary>
public sealed class KeyReader
{
    public const byte Lead = 0x1f;
    private bool led;

    /// <returns>The bytes for the host, and the client's own keys among them in order.</returns>
    public (byte[] ForHost, List<ShellKey> Own) Read(ReadOnlySpan<byte> typed)
    {
        var forHost = new List<byte>(typed.Length);
        var own = new List<ShellKey>();
        foreach (var key in typed)
        {
            if (!led)
            {
                if (key == Lead)
                {
                    led = true;
                }
                else
                {
                    forHost.Add(key);
                }
                continue;
            }
            led = false;
            switch (key)
            {
                case Lead:
                    forHost.Add(key);
                    break;
                case (byte)'l':
                    own.Add(ShellKey.Leave);
                    break;
                case (byte)'e':
                    own.Add(ShellKey.End);
                    break;
                case (byte)'w':
                    own.Add(ShellKey.Where);
                    break;
                default:
                    own.Add(ShellKey.Help);
                    break;
            }
        }
        return ([.. forHost], own);
    }
}
