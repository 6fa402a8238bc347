using System.Net.Sockets;
using System.Text;
using Umbrek.Agent.Shell;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Tests;
using Umbrek.Wire.Shell;

namespace Umbrek.Agent.Tests.Shell;

/// <summary>A shell in a keeper's process, as an agent starts one.</summary>
internal sealed class TestShell : IAsyncDisposable
{
    public static readonly Guid Technician = Guid.CreateVersion7();

    private TestShell(ShellDirectory directory, TestPrograms keeper) => (Directory, Keeper) = (directory, keeper);

    public ShellDirectory Directory { get; }
    public TestPrograms Keeper { get; }

    public static TestShell Start(TestDirectory where, ShellWish wish)
    {
        var directory = new ShellDirectory(where.In(Guid.CreateVersion7().ToString("N")));
        System.IO.Directory.CreateDirectory(directory.Path);
        directory.Write(new KeptShell(Technician, "Ines Okafor", wish, DateTimeOffset.UtcNow));
        return new TestShell(directory, TestPrograms.Start("umbrek-agent", ["shell-keeper", directory.Path]));
    }

    public static TestShell Run(TestDirectory where, string line) => Start(where, new ShellWish { Command = new CommandSpec { Line = line, Shell = "/bin/sh" } });

    public static TestShell InTerminal(TestDirectory where, string line) =>
        Start(where, new ShellWish { Command = new CommandSpec { Line = line, Shell = "/bin/sh" }, Terminal = TerminalSize.Usual });

    public Task<TestAttendance> AttendAsync(long seen = 0) => AttendAsync(Directory, seen);

    public static async Task<TestAttendance> AttendAsync(ShellDirectory directory, long seen = 0)
    {
        KeeperStream? stream = null;
        await Wait.UntilAsync(async () =>
        {
            var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            try
            {
                await socket.ConnectAsync(new UnixDomainSocketEndPoint(directory.Socket));
                stream = new KeeperStream(socket);
                return true;
            }
            catch (SocketException)
            {
                socket.Dispose();
                return false;
            }
        }, "the shell's keeper to listen");
        await stream!.WriteAsync(new ShellWord(Seen: seen), default);
        return new TestAttendance(stream, seen);
    }

    public Task GoneAsync() => Wait.UntilAsync(() => Keeper.HasExited && !System.IO.Directory.Exists(Directory.Path), "the keeper to end");

    public ValueTask DisposeAsync() => Keeper.DisposeAsync();
}

/// <summary>A technician's side, as far as the keeper sees it.</summary>
internal sealed class TestAttendance(KeeperStream stream, long seen) : IDisposable
{
    private readonly List<byte> output = [];
    private readonly List<byte> errors = [];

    public KeeperStream Stream => stream;
    public ShellOpened? Opened { get; private set; }
    public RunEnd? Ended { get; private set; }
    public string? Notice { get; private set; }

    /// <summary>How many sentences came while it went on.</summary>
    public int Notices { get; private set; }
    public bool Displaced { get; private set; }
    public long Taken { get; private set; }
    public long Seen { get; private set; } = seen;
    public byte[] Output => [.. output];
    public string Text => Encoding.UTF8.GetString(Output);
    public string Errors => Encoding.UTF8.GetString([.. errors]);

    /// <summary>Whether it tells the keeper what it has seen.</summary>
    public bool Acknowledges { get; set; } = true;

    public Task TypeAsync(string keys) => stream.WriteAsync(ShellStream.Input, Encoding.UTF8.GetBytes(keys), default);

    public Task SayAsync(ShellWord word) => stream.WriteAsync(word, default);

    /// <summary>Reads until something is so.</summary>
    public async Task UntilAsync(Func<bool> so, string what)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        while (!so())
        {
            KeeperMessage? next;
            try
            {
                next = await stream.ReadAsync(limit.Token);
            }
            catch (OperationCanceledException)
            {
                throw new TimeoutException($"Waited for {what}; so far it said: {Text} {Errors}");
            }
            if (next is not { } message)
            {
                throw new IOException($"The keeper went away while waiting for {what}; it had said: {Text} {Errors}");
            }
            if (message.IsWord)
            {
                var word = message.ReadWord()!;
                Opened ??= word.Opened;
                Seen = word.Opened?.Offset ?? Seen;
                Ended ??= word.Ended;
                Notice = word.Notice ?? Notice;
                Notices += word.Notice is null ? 0 : 1;
                Taken = word.Taken ?? Taken;
                Displaced |= word.Displaced == true;
                continue;
            }
            (message.Stream == ShellStream.Error ? errors : output).AddRange(message.Data.Span);
            Seen += message.Data.Length;
            if (Acknowledges)
            {
                await SayAsync(new ShellWord(Seen: Seen));
            }
        }
    }

    public Task UntilSaidAsync(string text)
    {
        var looked = 0;
        return UntilAsync(
            () =>
            {
                // Only what is new, and the few bytes that it may have begun in.
                var from = Math.Max(0, looked - Encoding.UTF8.GetByteCount(text));
                looked = output.Count;
                return Encoding.UTF8.GetString([.. output.Skip(from)]).Contains(text, StringComparison.Ordinal);
            },
            $"'{text}'");
    }

    public async Task<RunEnd> EndAsync()
    {
        await UntilAsync(() => Ended is not null, "its end");
        await SayAsync(new ShellWord(End: true));
        return Ended!;
    }

    public void Dispose() => stream.Dispose();
}
