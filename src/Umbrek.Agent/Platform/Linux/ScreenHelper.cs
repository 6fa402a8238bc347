using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

[JsonSerializable(typeof(ScreenOrder))]
[JsonSerializable(typeof(ScreenAnswer))]
[JsonSerializable(typeof(PlacardOrder))]
[JsonSerializable(typeof(PlacardCare))]
[JsonSerializable(typeof(PlacardAnswer))]
[JsonSerializable(typeof(LockOrder))]
[JsonSerializable(typeof(LockAnswer))]
[JsonSerializable(typeof(GivenOrder))]
[JsonSerializable(typeof(GivenAnswer))]
internal sealed partial class ScreenJson : JsonSerializerContext;

/// <summary>
/// A process of ours that does something at one screen: it runs as whose screen it is, takes nothing else of the agent down when it ends, and
/// is spoken to over its standard input, which is a socket. Words are lines of JSON.
/// </summary>
/// <param name="Line">The agent's end.</param>
/// <param name="Ended">Completes with what it ends with.</param>
internal sealed record ScreenHelper(NetworkStream Line, Task<int> Ended, string User) : IAsyncDisposable
{
    private const int MostLine = 16 * 1024;

    /// <exception cref="IOException">It could not be started.</exception>
    public static ScreenHelper Start(XDisplay display, string command) => Start(display.User, display.Name, command);

    /// <param name="id">The user whose screen it is.</param>
    /// <exception cref="IOException">It could not be started.</exception>
    public static ScreenHelper Start(uint id, string name, string command)
    {
        var user = Native.FindUser(id);
        var own = SystemUser.Own();
        if (own.Id != 0 && own.Id != id)
        {
            throw new IOException($"The screen {name} is that of {user?.Name ?? $"user {id}"}, and the agent runs as {own.Name} on this host: it can't show it. Run the agent as root.");
        }
        var (ours, theirs) = Native.SocketPair();
        using var mine = new SafeSocketHandle(theirs, true);
        var line = new NetworkStream(new Socket(new SafeSocketHandle(ours, true)), ownsSocket: true);
        try
        {
            var program = Environment.ProcessPath ?? throw new IOException("The agent does not know its own file.");
            var (run, arguments) = (user ?? own).Run(program, [program, command]);
            var error = Spawn.Start(new SpawnOrder(run, arguments) { Directory = "/", Stdin = theirs, Stdout = theirs, Environment = (user ?? own).LoginEnvironment(null) }, out var pid);
            return error == 0 ? new ScreenHelper(line, EndedAsync(pid), (user ?? own).Name)
                : throw new IOException($"What shows the screen could not be started: {Marshal.GetPInvokeErrorMessage(error)}.");
        }
        catch
        {
            line.Dispose();
            throw;
        }
    }

    /// <summary>The helper's own end.</summary>
    public static NetworkStream Own() => new(new Socket(new SafeSocketHandle(0, false)), ownsSocket: false);

    /// <summary>Tells it what to do, and hears its answer.</summary>
    /// <exception cref="IOException">It does not answer, or not in time.</exception>
    public async Task<TAnswer> OrderAsync<TOrder, TAnswer>(TOrder order, JsonTypeInfo<TOrder> orderType, JsonTypeInfo<TAnswer> answerType, TimeSpan within, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(within);
        try
        {
            await WriteLineAsync(Line, order, orderType, limit.Token).ConfigureAwait(false);
            return await ReadLineAsync(Line, answerType, limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is SocketException or JsonException or EndOfStreamException || (e is OperationCanceledException && !cancel.IsCancellationRequested))
        {
            throw new IOException(e is EndOfStreamException ? $"What shows the screen has ended before it began; {User}, whose screen it is, has to be allowed to run {Environment.ProcessPath}." : "What shows the screen does not answer.", e);
        }
    }

    public static async Task WriteLineAsync<T>(Stream line, T word, JsonTypeInfo<T> type, CancellationToken cancel) =>
        await line.WriteAsync((byte[])[.. JsonSerializer.SerializeToUtf8Bytes(word, type), (byte)'\n'], cancel).ConfigureAwait(false);

    /// <summary>Byte for byte: what follows may be no line.</summary>
    /// <exception cref="EndOfStreamException">The other side has gone.</exception>
    /// <exception cref="JsonException">It says something else.</exception>
    public static async Task<T> ReadLineAsync<T>(Stream line, JsonTypeInfo<T> type, CancellationToken cancel)
    {
        var (text, one) = (new List<byte>(), new byte[1]);
        while (true)
        {
            await line.ReadExactlyAsync(one, cancel).ConfigureAwait(false);
            if (one[0] == '\n')
            {
                return JsonSerializer.Deserialize(Encoding.UTF8.GetString([.. text]), type) ?? throw new JsonException("an empty line");
            }
            text.Add(one[0]);
            if (text.Count > MostLine)
            {
                throw new JsonException("a line without an end");
            }
        }
    }

    public ValueTask DisposeAsync() => Line.DisposeAsync();

    /// <summary>Waits on a thread of its own, as a process has no other way to be waited for.</summary>
    private static Task<int> EndedAsync(int pid)
    {
        var ended = new TaskCompletionSource<int>(TaskCreationOptions.RunContinuationsAsynchronously);
        new Thread(() => ended.SetResult(LinuxPlatform.WaitFor(pid)), 64 * 1024) { IsBackground = true, Name = "wait for screen" }.Start();
        return ended.Task;
    }
}
