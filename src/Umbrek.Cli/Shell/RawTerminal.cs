using System.Runtime.InteropServices;
using Umbrek.Core.Shell;

namespace Umbrek.Cli.Shell;

/// <summary>The person's own terminal, with every key passed on as it is (termios(3), cfmakeraw). Disposing gives it back as it was.</summary>
public sealed unsafe partial class RawTerminal : IDisposable
{
    private const int Input = 0;
    private const int Now = 0;

    // struct termios has 60 bytes on 64-bit glibc.
    private readonly byte[] before = new byte[128];
    private bool isRaw;

    private RawTerminal()
    {
    }

    public static bool IsThere => !Console.IsInputRedirected && !Console.IsOutputRedirected;

    /// <summary>The size of the terminal now (ioctl_tty(2), TIOCGWINSZ: rows, columns, and two that nobody uses).</summary>
    public static TerminalSize Size
    {
        get
        {
            // Not the console's own: asking that for its size puts the terminal's cursor keys into another mode.
            const nuint getWindowSize = 0x5413;
            var size = stackalloc ushort[4];
            return Control(Input, getWindowSize, size) == 0 && size[0] > 0 && size[1] > 0 ? new TerminalSize(size[1], size[0]).Within() : TerminalSize.Usual;
        }
    }

    public static RawTerminal Take()
    {
        var terminal = new RawTerminal();
        fixed (byte* saved = terminal.before)
        {
            if (GetAttributes(Input, saved) != 0)
            {
                return terminal;
            }
            var raw = stackalloc byte[128];
            new ReadOnlySpan<byte>(saved, 128).CopyTo(new Span<byte>(raw, 128));
            MakeRaw(raw);
            terminal.isRaw = SetAttributes(Input, Now, raw) == 0;
        }
        return terminal;
    }

    public void Dispose()
    {
        if (isRaw)
        {
            isRaw = false;
            fixed (byte* saved = before)
            {
                _ = SetAttributes(Input, Now, saved);
            }
        }
    }

    [LibraryImport("libc", EntryPoint = "tcgetattr", SetLastError = true)]
    private static partial int GetAttributes(int descriptor, byte* attributes);

    [LibraryImport("libc", EntryPoint = "tcsetattr", SetLastError = true)]
    private static partial int SetAttributes(int descriptor, int when, byte* attributes);

    [LibraryImport("libc", EntryPoint = "ioctl", SetLastError = true)]
    private static partial int Control(int descriptor, nuint request, void* argument);

    [LibraryImport("libc", EntryPoint = "cfmakeraw")]
    private static partial void MakeRaw(byte* attributes);
}
