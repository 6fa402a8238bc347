using System.Runtime.InteropServices;

namespace Umbrek.Cli.Shell;

/// <summary>
/// Standard output or error, byte for byte (write(2)). Other than the console's own stream it says when nobody reads any more, so that a
/// command at a host ends as one would here.
/// </summary>
/// <param name="descriptor">1 or 2.</param>
public sealed unsafe partial class RawOutput(int descriptor)
{
    private const int Interrupted = 4;
    private const int TryAgain = 11;
    private const short PollOut = 4;

    private struct PollEntry
    {
        public int Descriptor;
        public short Events;
        public short Happened;
    }

    /// <exception cref="IOException">Nobody reads it any more, or its disk is full.</exception>
    public void Write(ReadOnlySpan<byte> bytes)
    {
        while (!bytes.IsEmpty)
        {
            nint wrote;
            fixed (byte* first = bytes)
            {
                wrote = WriteOnce(descriptor, first, bytes.Length);
            }
            if (wrote >= 0)
            {
                bytes = bytes[(int)wrote..];
                continue;
            }
            var error = Marshal.GetLastPInvokeError();
            if (error == TryAgain)
            {
                // Somebody else has made it non-blocking.
                var entry = new PollEntry { Descriptor = descriptor, Events = PollOut };
                _ = Poll(&entry, 1, -1);
            }
            else if (error != Interrupted)
            {
                throw new IOException($"The output can't be written: {Marshal.GetPInvokeErrorMessage(error)}.");
            }
        }
    }

    [LibraryImport("libc", EntryPoint = "write", SetLastError = true)]
    private static partial nint WriteOnce(int descriptor, byte* bytes, nint length);

    [LibraryImport("libc", EntryPoint = "poll", SetLastError = true)]
    private static partial int Poll(PollEntry* entries, nuint count, int milliseconds);
}
