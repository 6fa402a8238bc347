using System.Runtime.InteropServices;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>Memory that the X server writes pictures into and this process reads them from (shmget(2)). Nobody else may.</summary>
internal sealed unsafe partial class SharedPixels : IDisposable
{
    private const int Create = 0x200 | 0x180;
    private const int Remove = 0;

    private readonly byte* address;

    private SharedPixels(int id, byte* address, int length)
    {
        Id = id;
        this.address = address;
        Length = length;
    }

    public int Id { get; }
    public int Length { get; }

    /// <returns>Null where the system has none to give.</returns>
    public static SharedPixels? TryCreate(int length)
    {
        // IPC_PRIVATE, for its owner alone (0600).
        var id = ShmGet(0, (nuint)length, Create);
        if (id < 0)
        {
            return null;
        }
        var address = ShmAt(id, null, 0);
        if ((nint)address == -1)
        {
            _ = ShmControl(id, Remove, null);
            return null;
        }
        return new SharedPixels(id, address, length);
    }

    /// <summary>Once the server has it, its name can go: it is freed when both have let go, whatever becomes of either.</summary>
    public void Forget() => _ = ShmControl(Id, Remove, null);

    public ReadOnlySpan<byte> Bytes(int length) => new(address, Math.Min(length, Length));

    public void Dispose() => _ = ShmDetach(address);

    [LibraryImport("libc", EntryPoint = "shmget", SetLastError = true)]
    private static partial int ShmGet(int key, nuint size, int flags);

    [LibraryImport("libc", EntryPoint = "shmat", SetLastError = true)]
    private static partial byte* ShmAt(int id, byte* at, int flags);

    [LibraryImport("libc", EntryPoint = "shmdt", SetLastError = true)]
    private static partial int ShmDetach(byte* at);

    [LibraryImport("libc", EntryPoint = "shmctl", SetLastError = true)]
    private static partial int ShmControl(int id, int command, void* buffer);
}
