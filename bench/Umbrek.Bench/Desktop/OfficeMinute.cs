using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Bench.Hosting;
using Umbrek.Core.Desktop;

namespace Umbrek.Bench.Desktop;

/// <summary>
/// A minute of office work, step by step, said to two viewers: one that takes all there is, and one that takes ZRLE alone (RFC 6143,
/// 7.7.6). Both are told every step, so how fast anything is does not count.
/// </summary>
internal static class OfficeMinute
{
    private const int PerSecond = 30;
    private const int Quality = 80;

    /// <summary>A still screen is repaired after a quarter of a second.</summary>
    private const int StillSteps = PerSecond / 4;

    private static readonly (string What, int Seconds, Func<PaintedScreen, int, bool> Paint)[] scenes =
    [
        ("typing", 15, (s, n) => Every(5, n, () => s.Letter(n / 5 % 100 + 4, n / 500 + 4))),
        ("scrolling text", 7, (s, n) => Every(6, n, () => s.Scroll(40, 60, 100, 36))),
        ("a window is dragged", 6, (s, n) => Every(1, n, () => Drag(s, n))),
        ("a page with pictures", 14, (s, n) => Every(10, n, () => s.Page(n / 10, 60, 40, 900, 700, 48))),
        ("typing", 8, (s, n) => Every(5, n, () => s.Letter(n / 5 % 100 + 4, n / 500 + 20))),
        ("a small film", 6, (s, n) => Every(1, n, () => s.Film(n, 700, 300, 480, 270))),
        ("nothing", 4, (_, _) => false),
    ];

    public static async Task RunAsync()
    {
        Console.WriteLine("-- a minute of office work, of 1280 x 800");
        await using var screen = await PaintedScreen.StartAsync(1280, 800);
        await using var x = await XScreen.OpenAsync(screen.Socket, null, "x", false, TimeProvider.System, default);
        await x.TakeAsync(default);
        using var jpeg = TurboJpeg.TryCreate();
        using var ours = new Told(x.Image, new ViewerTakes(PixelFormat.Usual, true, true, Quality), jpeg);
        using var zrle = new Told(x.Image, new ViewerTakes(PixelFormat.Usual, true, false, 0), null);
        var (text, textZrle) = (0L, 0L);
        foreach (var (what, seconds, paint) in scenes)
        {
            var (before, beforeZrle) = (ours.Bytes, zrle.Bytes);
            for (var n = 0; n < seconds * PerSecond; n++)
            {
                List<ScreenRect> damage = [];
                if (paint(screen, n))
                {
                    await screen.DoneAsync();
                    await x.WaitAsync(default);
                    damage.AddRange((await x.TakeAsync(default)).Damage);
                }
                ours.Tell(x.Image, damage);
                zrle.Tell(x.Image, damage);
            }
            Figures.Line($"office, {what}, {seconds} s", (ours.Bytes - before) / 1e3, (zrle.Bytes - beforeZrle) / 1e3, "kB", "");
            (text, textZrle) = what is "typing" or "scrolling text" ? (text + ours.Bytes - before, textZrle + zrle.Bytes - beforeZrle) : (text, textZrle);
        }
        Figures.Line("office, its text alone, against all ZRLE", text / 1e3, textZrle / 1e3, "kB", "");
        Figures.Line("office, the whole minute, against all ZRLE", ours.Bytes / 1e3, zrle.Bytes / 1e3, "kB", "under 0.33");
        Figures.Alone("office, tiles with losses at its end", ours.Losses ? 1 : 0, "", "0");
    }

    private static bool Every(int steps, int n, Action paint)
    {
        if (n % steps == 0)
        {
            paint();
        }
        return n % steps == 0;
    }

    /// <summary>What it has lain on comes back as it goes.</summary>
    private static void Drag(PaintedScreen screen, int n)
    {
        screen.Fill(100 + 5 * (n - 1), 100 + 2 * (n - 1), 400, 300, 0x304858);
        screen.Film(0, 100 + 5 * n, 100 + 2 * n, 400, 300);
    }

    /// <summary>A viewer that is told each step.</summary>
    private sealed class Told : IDisposable
    {
        private readonly ScreenEncoder encoder;
        private readonly ViewerTakes takes;
        private readonly RfbWriter writer = new();
        private int still;

        public Told(ScreenImage first, ViewerTakes takes, IJpegEncoder? jpeg)
        {
            (encoder, this.takes) = (new ScreenEncoder(jpeg), takes);
            encoder.Forget(first);
        }

        public long Bytes { get; private set; }

        public bool Losses => encoder.HasLosses;

        public void Tell(ScreenImage now, List<ScreenRect> damage)
        {
            writer.BeginUpdate();
            if (damage.Count > 0)
            {
                encoder.Encode(now, [.. damage], takes, Quality, int.MaxValue / 2, writer);
                still = 0;
            }
            else if (++still >= StillSteps && encoder.HasLosses)
            {
                encoder.Repair(now, takes, int.MaxValue / 2, writer);
            }
            writer.EndUpdate();
            Bytes += writer.Rects > 0 ? writer.Written.Length : 0;
            writer.Clear();
        }

        public void Dispose() => encoder.Dispose();
    }
}
