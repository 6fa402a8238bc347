using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Net.WebSockets;
using System.Threading.Channels;
using Umbrek.Agent.Files;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Files;
using Umbrek.Tests;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>A real channel to real files of this machine, in a folder of its own.</summary>
internal sealed class FileLine : IAsyncDisposable
{
    private readonly TestDirectory state = new();
    private readonly List<IDisposable> open = [];
    private readonly Channel<FileReport> reports = Channel.CreateUnbounded<FileReport>();
    private readonly FileFrames<FileWord, FileAsk> host;
    private readonly StateDirectory agent;

    private FileLine(WebSocket near, WebSocket far)
    {
        (Technician, host) = (FileFrames.OfTechnician(near), FileFrames.OfHost(far));
        agent = new StateDirectory(state.Path);
        agent.Create();
        Ledger = new PartLedger(agent.PartsFile, TimeProvider.System);
        Begin(changes: false);
    }

    public TestDirectory Directory { get; } = new();

    public FileFrames<FileAsk, FileWord> Technician { get; }

    public PartLedger Ledger { get; }

    public StateDirectory State => agent;

    public TransferCount Count { get; private set; } = null!;

    private FileAnswers Answers { get; set; } = null!;

    private FileChanger? Changer { get; set; }

    public static async Task<FileLine> OpenAsync()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var near = new TcpClient();
        await near.ConnectAsync((IPEndPoint)listener.LocalEndpoint);
        var far = await listener.AcceptTcpClientAsync();
        static WebSocket Socket(TcpClient of, bool isServer) => WebSocket.CreateFromStream(of.GetStream(), new WebSocketCreationOptions { IsServer = isServer });
        var (a, b) = (Socket(near, false), Socket(far, true));
        var line = new FileLine(a, b);
        line.open.AddRange([near, far, a, b]);
        return line;
    }

    private (IHostFiles, IFileChanges) Within(FileName folder, IReadOnlyList<string>? roots)
    {
        var narrower = FileRoots.Intersect(roots, [folder.Text]);
        return (new LinuxFiles(narrower), new LinuxFileChanges(agent, Ledger, TimeProvider.System, narrower));
    }

    /// <summary>From here on another technician asks, for reading or for changes; what was being written is left.</summary>
    public void Begin(bool changes, IReadOnlyList<string>? roots = null)
    {
        Changer?.Dispose();
        var files = new LinuxFiles(roots);
        Count = new TransferCount(Guid.Empty, changes ? FileDeed.Write : FileDeed.Read, reports.Writer.WriteAsync);
        Changer = changes ? new FileChanger(host, files, new LinuxFileChanges(agent, Ledger, TimeProvider.System, roots), Count, folder => Within(folder, roots)) : null;
        Answers = new FileAnswers(host, files, Count, Changer);
    }

    public FileName At(string name) => new(Directory.In(name));

    public void Run(string line)
    {
        using var shell = Process.Start(new ProcessStartInfo("/bin/bash", ["-c", line]) { WorkingDirectory = Directory.Path })!;
        shell.WaitForExit();
        shell.ExitCode.ShouldBe(0);
    }

    /// <summary>Asks, and collects the answer to its end.</summary>
    public Task<(List<FileWord> Words, byte[] Data)> AskAsync(FileAsk ask) => CollectAsync(cancel => Answers.AnswerAsync(ask, cancel));

    /// <summary>Sends a file whole: what it is, its parts (bytes, or a number of zeros), and its end.</summary>
    public Task<(List<FileWord> Words, byte[] Data)> SendAsync(FileWrite? write, FileEnd? end, params object[] parts) => CollectAsync(async cancel =>
    {
        if (write is not null)
        {
            await Answers.AnswerAsync(new FileAsk(Write: write), cancel);
        }
        foreach (var part in parts)
        {
            await (part is byte[] bytes ? Answers.TakeAsync(bytes, cancel).AsTask() : Answers.AnswerAsync(new FileAsk(Zeros: Convert.ToInt64(part)), cancel));
        }
        if (end is not null)
        {
            await Answers.AnswerAsync(new FileAsk(End: end), cancel);
        }
    }, expectsAnswer: end is not null);

    /// <summary>What another version of a file has not: words, and bytes between them.</summary>
    public async Task<List<object>> DeltaAsync(FileDelta delta, byte[] sums)
    {
        var parts = new List<object>();
        await CollectAsync(async cancel =>
        {
            await Answers.AnswerAsync(new FileAsk(Delta: delta), cancel);
            for (var at = 0; at < sums.Length; at += 1000)
            {
                await Answers.TakeAsync(sums.AsMemory(at, Math.Min(1000, sums.Length - at)), cancel);
            }
        }, heard: parts.Add);
        return parts;
    }

    /// <summary>Writes a file of such parts.</summary>
    /// <returns>The last word of the answer.</returns>
    public async Task<FileWord> PutAsync(FileWrite write, List<object> parts)
    {
        var (words, _) = await CollectAsync(async cancel =>
        {
            await Answers.AnswerAsync(new FileAsk(Write: write), cancel);
            foreach (var part in parts)
            {
                await (part switch
                {
                    byte[] bytes => Answers.TakeAsync(bytes, cancel).AsTask(),
                    FileWord { Same: { } same } => Answers.AnswerAsync(new FileAsk(Copy: same), cancel),
                    FileWord { Zeros: { } zeros } => Answers.AnswerAsync(new FileAsk(Zeros: zeros), cancel),
                    FileWord { Done: true } end => Answers.AnswerAsync(new FileAsk(End: new FileEnd(end.Sha256)), cancel),
                    _ => Task.CompletedTask,
                });
            }
        });
        return words[^1];
    }

    public async Task<string> ProblemAsync(FileAsk ask) => (await AskAsync(ask)).Words.ShouldHaveSingleItem().Problem.ShouldNotBeNull();

    public async Task ChangeAsync(FileChange change) => (await AskAsync(new FileAsk(Change: change))).Words.ShouldAllBe(w => w.Problem == null);

    public Task<string> ChangeProblemAsync(FileChange change) => ProblemAsync(new FileAsk(Change: change));

    /// <summary>What was told to the service by now.</summary>
    public async Task<List<FileReport>> ToldAsync()
    {
        await Count.EndAsync(default);
        var told = new List<FileReport>();
        while (reports.Reader.TryRead(out var report))
        {
            told.Add(report);
        }
        return told;
    }

    public ValueTask DisposeAsync()
    {
        Changer?.Dispose();
        open.ForEach(o => o.Dispose());
        Directory.Dispose();
        state.Dispose();
        return ValueTask.CompletedTask;
    }

    private async Task<(List<FileWord> Words, byte[] Data)> CollectAsync(Func<CancellationToken, Task> act, bool expectsAnswer = true, Action<object>? heard = null)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var answering = Task.Run(async () =>
        {
            await act(limit.Token);
            await host.FlushAsync(limit.Token);
        });
        var words = new List<FileWord>();
        using var data = new MemoryStream();
        while (expectsAnswer && words is not [.., { Done: true }])
        {
            var message = (await Technician.ReceiveAsync(limit.Token))!.Value;
            if (message.Word is { } word)
            {
                words.Add(word);
                heard?.Invoke(word);
                // A hole, as it reads.
                data.Write(new byte[word.Zeros ?? 0]);
            }
            else
            {
                data.Write(message.Data.Span);
                heard?.Invoke(message.Data.ToArray());
            }
        }
        await answering;
        return (words, data.ToArray());
    }
}
