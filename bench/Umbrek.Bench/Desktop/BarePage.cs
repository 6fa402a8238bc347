using System.Net;
using System.Net.WebSockets;
using System.Text;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Wire.Sessions;

namespace Umbrek.Bench.Desktop;

/// <summary>
/// The least that shows a screen in a browser: the same capture and encoder in this process, one WebSocket in the open, and a
/// worker that paints what comes on a canvas. The reference of what the console shows.
/// </summary>
internal sealed class BarePage : IAsyncDisposable
{
    private const string Html = """
        <!doctype html><title>bare</title><canvas></canvas>
        <script>
          const canvas = document.querySelector('canvas').transferControlToOffscreen();
          new Worker('/worker.js').postMessage([canvas, `ws://${location.host}/rfb`], [canvas]);
        </script>
        """;

    /// <summary>RFC 6143: the handshake, then Raw rectangles, one request ahead.</summary>
    private const string Worker = """
        onmessage = ({ data: [canvas, address] }) => {
          const socket = new WebSocket(address);
          socket.binaryType = 'arraybuffer';
          const pixels = canvas.getContext('2d');
          let held = new Uint8Array(0);
          let wanted, give;
          const serve = () => {
            if (!give || held.length < wanted) return;
            const bytes = held.slice(0, wanted);
            held = held.subarray(wanted);
            const to = give;
            give = undefined;
            to(new DataView(bytes.buffer));
          };
          const take = (n) => new Promise((resolve) => { wanted = n; give = resolve; serve(); });
          socket.onmessage = ({ data }) => {
            const more = new Uint8Array(held.length + data.byteLength);
            more.set(held);
            more.set(new Uint8Array(data), held.length);
            held = more;
            serve();
          };
          const say = (...bytes) => socket.send(new Uint8Array(bytes));
          const run = async () => {
            socket.send(new Uint8Array((await take(12)).buffer));
            await take((await take(1)).getUint8(0));
            say(1);
            await take(4);
            say(1);
            const about = await take(24);
            const [w, h] = [about.getUint16(0), about.getUint16(2)];
            await take(about.getUint32(20));
            [canvas.width, canvas.height] = [w, h];
            say(2, 0, 0, 1, 0, 0, 0, 0);
            const ask = (more) => say(3, more, 0, 0, 0, 0, w >> 8, w & 255, h >> 8, h & 255);
            ask(0);
            for (;;) {
              const kind = (await take(1)).getUint8(0);
              if (kind !== 0) throw new Error(`message ${kind}`);
              const rectangles = (await take(3)).getUint16(1);
              ask(1);
              for (let n = 0; n < rectangles; n++) {
                const at = await take(12);
                const [x, y, wide, high] = [0, 2, 4, 6].map((o) => at.getUint16(o));
                const from = new Uint8Array((await take(wide * high * 4)).buffer);
                const image = new ImageData(wide, high);
                for (let i = 0; i < from.length; i += 4) {
                  image.data[i] = from[i + 2];
                  image.data[i + 1] = from[i + 1];
                  image.data[i + 2] = from[i];
                  image.data[i + 3] = 255;
                }
                pixels.putImageData(image, x, y);
              }
            }
          };
          socket.onopen = run;
        };
        """;

    private readonly HttpListener listener = new();
    private readonly CancellationTokenSource over = new();
    private readonly PaintedScreen screen;
    private readonly Task serves;

    public BarePage(PaintedScreen screen, int port)
    {
        this.screen = screen;
        Address = new Uri($"http://127.0.0.1:{port}/");
        listener.Prefixes.Add($"{Address}");
        listener.Start();
        serves = ServeAsync();
    }

    public Uri Address { get; }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync();
        listener.Abort();
        await serves.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        over.Dispose();
    }

    private async Task ServeAsync()
    {
        while (true)
        {
            var asked = await listener.GetContextAsync();
            if (asked.Request.IsWebSocketRequest)
            {
                await ShowAsync((await asked.AcceptWebSocketAsync(null)).WebSocket);
                continue;
            }
            var (kind, text) = asked.Request.Url!.AbsolutePath switch
            {
                "/" => ("text/html", Html),
                "/worker.js" => ("text/javascript", Worker),
                _ => ("text/plain", ""),
            };
            asked.Response.ContentType = kind;
            await asked.Response.OutputStream.WriteAsync(Encoding.UTF8.GetBytes(text));
            asked.Response.Close();
        }
    }

    private async Task ShowAsync(WebSocket socket)
    {
        using var _ = socket;
        await using var x = await XScreen.OpenAsync(screen.Socket, null, "x", true, TimeProvider.System, default);
        await using var server = new RfbServer(x, WebSocketStream.Create(socket, WebSocketMessageType.Binary), true, null, TimeProvider.System);
        await server.ServeAsync(over.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }
}
