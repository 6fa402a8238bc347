using System.Globalization;
using System.Text;
using Umbrek.Core.Desktop;
using Umbrek.Simulation.Estate;

namespace Umbrek.Simulation.Desktop;

/// <summary>A window on a made-up desk.</summary>
internal sealed class DeskWindow(string title, int x, int y, int width, int height, Func<DateTimeOffset, IReadOnlyList<string>> lines)
{
    public const int Bar = 26;

    public string Title => title;
    public int X { get; set; } = x;
    public int Y { get; set; } = y;
    public ScreenRect Part => new(X, Y, width, height);
    public IReadOnlyList<string> Lines(DateTimeOffset now) => lines(now);
}

/// <summary>
/// What is on a made-up computer's screen: windows of its daily work, a clock, and a place to type in. Everybody who looks at it sees
/// the same, and what one does there the others see.
/// </summary>
public sealed class SimulatedDesk
{
    public const int Width = 1280;
    public const int Height = 800;
    private const int MostTyped = 2000;
    private const int Panel = 34;

    private readonly SimulatedHost host;
    private readonly SimulatedPlatform platform;
    private readonly TimeProvider time;
    private readonly Lock gate = new();
    private readonly List<DeskWindow> windows = [];
    private readonly StringBuilder typed = new();
    private (DeskWindow Window, int X, int Y)? drag;
    private byte buttons;
    private (int X, int Y)? pointer;
    private string clipboard = "";

    internal SimulatedDesk(SimulatedHost host, SimulatedPlatform platform, TimeProvider time)
    {
        (this.host, this.platform, this.time) = (host, platform, time);
        windows.AddRange(Windows());
        windows.Add(new DeskWindow("Notes", 720, 420, 500, 300, _ => Notes()));
    }

    /// <summary>Called when something on it changes.</summary>
    public event Action? Changed;

    /// <summary>Called when somebody at it has copied a text.</summary>
    public event Action<SimulatedScreen?>? Copied;

    public string Name => $"{host.Name} :0";

    /// <summary>Where somebody has last moved the pointer.</summary>
    public (int X, int Y)? PointerAt
    {
        get
        {
            lock (gate)
            {
                return pointer;
            }
        }
    }

    public string Clipboard
    {
        get
        {
            lock (gate)
            {
                return clipboard;
            }
        }
    }

    public void SetClipboard(string text, SimulatedScreen? by)
    {
        lock (gate)
        {
            clipboard = text;
        }
        Copied?.Invoke(by);
    }

    /// <summary>When the clock says something else.</summary>
    public TimeSpan NextTick()
    {
        var now = time.GetUtcNow();
        return TimeSpan.FromMilliseconds(1000 - now.Millisecond);
    }

    public void Draw(ScreenImage image)
    {
        lock (gate)
        {
            var now = time.GetUtcNow();
            var (sky, sea) = Colours();
            image.Fade(new ScreenRect(0, 0, Width, 520), sky, Blend(sky, sea));
            image.Fade(new ScreenRect(0, 520, Width, Height - 520), sea, 0x10161C);
            image.Box(new ScreenRect(0, 0, Width, Panel), 0x161B22);
            image.Write(14, 9, $"{host.Name} · {platform.Person ?? "nobody is logged in"}", 0xE6E2D8);
            var clock = now.ToString("ddd d MMM yyyy  HH:mm:ss", CultureInfo.InvariantCulture);
            image.Write(Width - 14 - clock.Length * Drawing.LetterWidth, 9, clock, 0xE6E2D8);
            if (platform.Person is null && host.Kind == HostKind.Desktop)
            {
                image.Box(new ScreenRect(440, 300, 400, 160), 0xEDE9DF);
                image.Write(470, 330, "Who are you?", 0x23262B, 2);
                image.Box(new ScreenRect(470, 390, 340, 32), 0xFFFFFF);
                image.Write(478, 398, new string('*', Math.Min(40, typed.Length)) + "|", 0x23262B);
                return;
            }
            foreach (var window in windows)
            {
                Draw(image, window, now, window == windows[^1]);
            }
        }
    }

    public void Mouse(int x, int y, byte pressed)
    {
        lock (gate)
        {
            var down = (pressed & 1) != 0 && (buttons & 1) == 0;
            buttons = pressed;
            pointer = (x, y);
            if (down && windows.FindLast(w => w.Part.Covers(new ScreenRect(x, y, 1, 1))) is { } hit)
            {
                windows.Remove(hit);
                windows.Add(hit);
                drag = y < hit.Y + DeskWindow.Bar ? (hit, x - hit.X, y - hit.Y) : null;
            }
            else if ((pressed & 1) == 0)
            {
                drag = null;
            }
            else if (drag is var (window, dx, dy))
            {
                (window.X, window.Y) = (Math.Clamp(x - dx, 0, Width - 60), Math.Clamp(y - dy, Panel, Height - DeskWindow.Bar));
            }
        }
        Changed?.Invoke();
    }

    public void Key(uint sym)
    {
        lock (gate)
        {
            switch (sym)
            {
                case 0xFF08 when typed.Length > 0:
                    typed.Length--;
                    break;
                case 0xFF0D:
                    typed.Append('\n');
                    break;
                case >= 0x20 and <= 0xFF:
                    typed.Append((char)sym);
                    break;
                case >= 0x01000100 and <= 0x0100FFFF:
                    typed.Append((char)(sym & 0xFFFF));
                    break;
                default:
                    return;
            }
            if (typed.Length > MostTyped)
            {
                typed.Remove(0, typed.Length - MostTyped);
            }
        }
        Changed?.Invoke();
    }

    private static void Draw(ScreenImage image, DeskWindow window, DateTimeOffset now, bool isFirst)
    {
        var part = window.Part;
        image.Box(part with { X = part.X + 5, Y = part.Y + 5 }, 0x0B0E12);
        image.Box(part, 0xF3F0E8);
        image.Box(part with { Height = DeskWindow.Bar }, isFirst ? 0x35506Bu : 0x59636Eu);
        image.Write(part.X + 10, part.Y + 5, window.Title, 0xFFFFFF);
        var y = part.Y + DeskWindow.Bar + 10;
        foreach (var line in window.Lines(now).TakeLast((part.Height - DeskWindow.Bar - 16) / 19))
        {
            image.Write(part.X + 12, y, line.Length * Drawing.LetterWidth > part.Width - 24 ? line[..((part.Width - 24) / Drawing.LetterWidth)] : line, 0x23262B);
            y += 19;
        }
    }

    private (uint Sky, uint Sea) Colours() => (host.Number % 5) switch
    {
        0 => (0x2C3E57u, 0x1D3A44u),
        1 => (0x4A3B52u, 0x24323Fu),
        2 => (0x39505Au, 0x1C3338u),
        3 => (0x54473Fu, 0x2B3436u),
        _ => (0x33425Fu, 0x22303Cu),
    };

    private static uint Blend(uint a, uint b) => ((a >> 1) & 0x7F7F7F) + ((b >> 1) & 0x7F7F7F);

    private List<string> Notes()
    {
        const int across = 58;
        var lines = new List<string> { "Type here; whoever looks on sees it.", "" };
        foreach (var line in (typed + "|").Split('\n'))
        {
            for (var at = 0; at == 0 || at < line.Length; at += across)
            {
                lines.Add(line.Substring(at, Math.Min(across, line.Length - at)));
            }
        }
        return lines;
    }

    private IEnumerable<DeskWindow> Windows()
    {
        var seed = host.Number;
        switch (host.Kind)
        {
            case HostKind.Kiosk:
                yield return new DeskWindow("Tickets — choose a crossing", 60, 80, 620, 420, now => [.. Enumerable.Range(0, 8).Select(i => Crossing(now, i, seed)), "", "Adults 2   Children 1   Bicycles 0", "", "To pay: € 31.50"]);
                break;
            case HostKind.Display:
                yield return new DeskWindow("Departures", 60, 80, 700, 460, now => [.. Enumerable.Range(0, 12).Select(i => Crossing(now, i, seed))]);
                break;
            case HostKind.Till:
                yield return new DeskWindow("Till — open", 60, 80, 560, 420, now => ["2  Tarn blue, 200 g        9.80", "1  Curd, jar               3.40", "1  Rye loaf                4.10", "", "Sum                       17.30", "", $"Receipt {seed:0000}-{now.Hour * 60 + now.Minute:0000}"]);
                break;
            case HostKind.Capture:
                yield return new DeskWindow("Camera — exposure runs", 60, 80, 640, 430, now => [$"Frame {now.DayOfYear * 97 + now.Hour:0000} of the north field", $"Exposure {now.Second,2} of 60 s", $"Sensor {-12.4 + seed % 7 * 0.1:0.0} °C", "", .. Enumerable.Range(0, 12).Select(i => Stars(seed + i))]);
                break;
            default:
                yield return new DeskWindow("Bookings", 60, 80, 620, 420, now => ["Date        Party              Deck   Paid", .. Enumerable.Range(0, 14).Select(i => Booking(now, i, seed))]);
                break;
        }
    }

    private static string Crossing(DateTimeOffset now, int i, int seed)
    {
        string[] places = ["Plover Sound", "Gannet Head", "Ternsay", "Quay North", "Holm of Reeds"];
        var at = now.AddMinutes(20 + 25 * i - now.Minute % 5);
        return $"{at:HH:mm}   {places[(i + seed) % places.Length],-16} berth {1 + (i * 3 + seed) % 4}   {(i == 0 ? "boarding" : i % 4 == 3 ? "ten minutes late" : "on time")}";
    }

    private static string Booking(DateTimeOffset now, int i, int seed)
    {
        string[] names = ["Lantern choir", "Marsh school", "Ostler", "Wynn", "Reed & Sands", "Bell ringers"];
        return $"{now.AddDays(i):yyyy-MM-dd}  {names[(i + seed) % names.Length],-17}  {(i % 2 == 0 ? "upper" : "lower")}  {((i * 7 + seed) % 5 == 0 ? "open" : "yes")}";
    }

    private static string Stars(int seed)
    {
        var random = new Random(seed);
        return string.Create(60, random, (line, from) =>
        {
            for (var i = 0; i < line.Length; i++)
            {
                line[i] = from.Next(14) switch { 0 => '.', 1 => '·', 2 when from.Next(4) == 0 => '*', _ => ' ' };
            }
        });
    }
}
