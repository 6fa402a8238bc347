using System.Runtime.InteropServices;
using System.Text;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Whose a file is and what kind of one, which .NET does not say.</summary>
internal readonly record struct FileOwner(uint UserId, ushort Mode)
{
    /// <summary>Neither a directory nor a device, a pipe or a socket: inode(7).</summary>
    public bool IsRegular => (Mode & 0xF000) == 0x8000;

    /// <summary>The user that this program runs as.</summary>
    public static uint Self => Native.EffectiveUser();

    /// <exception cref="IOException">The file can't be looked at.</exception>
    public static unsafe FileOwner Of(string path)
    {
        // struct statx (statx(2)) is alike on every architecture: 256 bytes, stx_uid at 20, stx_mode at 28.
        var buffer = stackalloc byte[256];
        fixed (byte* name = Encoding.UTF8.GetBytes(path + '\0'))
        {
            return Native.StatX(Native.AtCurrentDirectory, name, 0, Native.StatXBasic, buffer) == 0
                ? new FileOwner(*(uint*)(buffer + 20), *(ushort*)(buffer + 28))
                : throw new IOException($"{path}: {Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError())}");
        }
    }
}
