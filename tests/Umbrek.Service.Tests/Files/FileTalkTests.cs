using System.Net;
using System.Net.Sockets;
using System.Net.WebSockets;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Service.Files.Twins;
using Umbrek.Service.Relay;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Tests.Files;

/// <summary>What the service believes of what a host says about its files.</summary>
public sealed class FileTalkTests : IAsyncLifetime
{
    private readonly List<IDisposable> open = [];
    private readonly CancellationTokenSource sessionEnd = new();
    private FileFrames<FileWord, FileAsk> host = null!;
    private FileTalk talk = null!;
    private int used;
    private bool isLetGo;

    public async ValueTask InitializeAsync()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var near = new TcpClient();
        await near.ConnectAsync((IPEndPoint)listener.LocalEndpoint);
        var far = await listener.AcceptTcpClientAsync();
        static WebSocket Socket(TcpClient of, bool isServer) => WebSocket.CreateFromStream(of.GetStream(), new WebSocketCreationOptions { IsServer = isServer });
        var (a, b) = (Socket(near, false), Socket(far, true));
        open.AddRange([near, far, a, b]);
        host = FileFrames.OfHost(a);
        talk = new FileTalk("quay-ticket-01", TwinSide.First, new FileName("/srv"), new OwnEnd(b, () => used++, () => isLetGo = true, sessionEnd.Token), TimeProvider.System);
    }

    public ValueTask DisposeAsync()
    {
        open.ForEach(o => o.Dispose());
        sessionEnd.Dispose();
        return ValueTask.CompletedTask;
    }

    private static FileEntry Entry(string name, FileKind kind = FileKind.File) => new(new FileName(name), kind, 5, 0x1a4, "root", "root", new DateTimeOffset(2026, 11, 2, 8, 0, 0, TimeSpan.Zero), "1");

    /// <summary>The host's folder, and what it says lies below it.</summary>
    private async Task<FileTree?> LookAsync(params FileWord[] walk)
    {
        var looking = FileTree.LookAsync(talk, new FileName("/srv"), _ => false, default);
        await host.ReceiveAsync(default);
        await host.SayAsync(new FileWord(Entry: Entry("srv", FileKind.Folder), Done: true), default);
        await host.ReceiveAsync(default);
        foreach (var word in walk)
        {
            await host.SayAsync(word, default);
        }
        return await looking;
    }

    [Fact]
    public async Task What_lies_below_a_folder_is_known_by_its_path_and_what_could_not_be_seen_with_it()
    {
        var tree = await LookAsync(new FileWord(Entries: [Entry("a", FileKind.Folder), Entry("a/b")]), new FileWord(Problem: "It is locked.", At: new FileName("a/locked")), new FileWord(Entries: [Entry("c")], Done: true));
        tree!.Entries.Keys.Select(k => k.Text).ShouldBe(["a", "a/b", "c"]);
        tree.Unseen.ShouldHaveSingleItem().Key.Text.ShouldBe("a/locked");
        used.ShouldBeGreaterThan(0);
    }

    [Theory]
    [InlineData("../etc/passwd")]
    [InlineData("/etc/passwd")]
    [InlineData("a/../../b")]
    [InlineData("a//b")]
    [InlineData(".")]
    [InlineData("")]
    public async Task A_host_that_names_what_can_not_lie_there_is_not_believed(string name) =>
        (await Should.ThrowAsync<TurnFailedException>(() => LookAsync(new FileWord(Entries: [Entry("a", FileKind.Folder), Entry(name)], Done: true)))).Message.ShouldContain("which can't be");

    [Fact]
    public async Task What_the_host_refuses_is_said_with_its_name()
    {
        var asking = talk.AskAsync(new FileAsk(Look: new FileName("/srv")), null, default);
        await host.ReceiveAsync(default);
        await host.SayAsync(new FileWord(Notice: "A person is asked first."), default);
        await host.SayAsync(new FileWord(Refusal: "This host does not allow its files to be read."), default);
        (await Should.ThrowAsync<TurnFailedException>(() => asking)).Message.ShouldBe("quay-ticket-01: This host does not allow its files to be read.");
    }

    [Fact]
    public async Task With_the_session_the_line_ends_at_once()
    {
        var waiting = talk.NextAsync(default).AsTask();
        await sessionEnd.CancelAsync();
        (await Should.ThrowAsync<TalkBrokenException>(() => waiting)).Message.ShouldContain("has ended");
    }

    [Fact]
    public async Task A_host_that_goes_is_a_line_that_broke()
    {
        await host.CloseAsync(default);
        await Should.ThrowAsync<TalkBrokenException>(() => talk.NextAsync(default).AsTask());
        await talk.DisposeAsync();
        isLetGo.ShouldBeTrue();
    }
}
