using System.Globalization;
using System.Text;
using Umbrek.Core.Files;
using Umbrek.Simulation.Estate;

namespace Umbrek.Simulation.Files;

/// <summary>What lies on a made-up computer: the same each time that somebody looks, but for what technicians change.</summary>
public sealed class SimulatedDisk(SimulatedHost host, SimulatedPlatform platform, TimeProvider time)
{
    private readonly SortedDictionary<string, (FileEntry Entry, Func<byte[]> Content)> there = new(StringComparer.Ordinal);

    /// <summary>Held while anything is looked up or changed.</summary>
    public Lock Guard { get; } = new();

    /// <summary>Things by their paths.</summary>
    public SortedDictionary<string, (FileEntry Entry, Func<byte[]> Content)> All
    {
        get
        {
            if (there.Count == 0)
            {
                Fill();
            }
            return there;
        }
    }

    /// <summary>What was deleted, by what it is called in the trash.</summary>
    public Dictionary<string, (TrashItem Item, List<(string Path, (FileEntry Entry, Func<byte[]> Content) Thing)> Things)> Trash { get; } = [];

    /// <summary>What is being written, by path and version.</summary>
    public Dictionary<string, MemoryStream> Parts { get; } = [];

    public DateTimeOffset Now => time.GetUtcNow();

    public FileEntry Root => new(new FileName("/"), FileKind.Folder, 0, 0x1ed, "root", "root", Day(3));

    /// <summary>Where whoever sits there has his own.</summary>
    public const string Home = "/home/kiosk";

    private void Fill()
    {
        Text("/etc/hostname", host.Name + "\n", Day(200));
        Text("/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\nVERSION_ID=\"12\"\n", Day(200));
        Text("/etc/hosts", $"127.0.0.1 localhost\n{host.Address} {host.Name}\n", Day(180));
        Text("/etc/fstab", "/dev/sda1 / ext4 errors=remount-ro 0 1\n/dev/sda2 none swap sw 0 0\n", Day(200));
        Text("/etc/kiosk/kiosk.conf", $"# what {host.Name} shows\npage = https://tickets.example/board\nscreen = 1920x1080\nidle = 90\nprinter = ticket-print\n", Day(41), 0x1a0);
        Text("/etc/kiosk/timetable.csv", string.Concat(Enumerable.Range(6, 14).Select(h => string.Create(CultureInfo.InvariantCulture, $"{h:00}:{h * 7 % 60:00};Saltmarsh Quay;Ebb Island;pier {h % 3 + 1}\n"))), Day(12));
        Text("/var/log/kiosk.log", string.Concat(Enumerable.Range(0, 900).Select(n => $"{Day(1).AddSeconds(n * 37):yyyy-MM-ddTHH:mm:ssZ} {host.Name} kiosk[412]: INFO ticket {(n * 7919 + host.Number) % 900 + 100} sold at desk {n % 3 + 1}\n")), Day(0), 0x1a0, "adm");
        Text("/var/log/dpkg.log", string.Concat(Enumerable.Range(0, 400).Select(n => $"{Day(9).AddSeconds(n * 3):yyyy-MM-dd HH:mm:ss} status installed tidelib{n % 40}:amd64 2.{n % 9}-1\n")), Day(9));
        Text("/var/log/apt/history.log", $"Start-Date: {Day(9):yyyy-MM-dd  HH:mm:ss}\nCommandline: apt-get upgrade\nEnd-Date: {Day(9).AddMinutes(4):yyyy-MM-dd  HH:mm:ss}\n", Day(9));
        Text("/srv/board/index.html", $"<!doctype html>\n<title>{host.Name}</title>\n<h1>Next ferry</h1>\n", Day(33));
        Text("/home/kiosk/notes.txt", "The lid of the printer sticks; lift it at the left.\n", Day(77));
        Text("/home/kiosk/Desktop/Plan of the quay.svg", "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 320 120\"><path d=\"M0 84 q40 -22 80 0 t80 0 t80 0 t80 0 V120 H0Z\" fill=\"#2b6f8a\"/><path d=\"M96 78 h120 l-18 22 h-84 Z\" fill=\"#d8b25c\"/></svg>\n", Day(300));
        Add("/srv/board/tides.bin", FileKind.File, Day(2), 0x1a4, "root", "root", () => Noise(3 << 20), 3 << 20);
        foreach (var (link, target) in (ReadOnlySpan<(string, string)>)[("/bin", "usr/bin"), ("/srv/board/today.csv", "../../etc/kiosk/timetable.csv")])
        {
            Folders(link);
            there[link] = (new FileEntry(Name(link), FileKind.Link, 0, 0x1ff, "root", "root", Day(150), Target: new FileName(target), TargetKind: link == "/bin" ? FileKind.Folder : FileKind.File), () => []);
        }
        Add("/usr/bin/kiosk", FileKind.File, Day(60), 0x1ed, "root", "root", () => Noise(214_016), 214_016);
        Add("/run/kiosk.sock", FileKind.Socket, Day(0), 0x1b6, "kiosk", "kiosk", () => [], 0);
        Add("/boot/vmlinuz-" + platform.Kernel, FileKind.File, Day(120), 0x1a4, "root", "root", () => Noise(8 << 20), 8 << 20);
    }

    private byte[] Noise(int bytes)
    {
        var content = new byte[bytes];
        new Random(host.Number).NextBytes(content);
        return content;
    }

    private void Text(string path, string text, DateTimeOffset changed, int mode = 0x1a4, string group = "root")
    {
        var content = Encoding.UTF8.GetBytes(text);
        Add(path, FileKind.File, changed, mode, path.StartsWith("/home/", StringComparison.Ordinal) ? "kiosk" : "root", group, () => content, content.Length);
    }

    private void Add(string path, FileKind kind, DateTimeOffset changed, int mode, string owner, string group, Func<byte[]> content, long bytes)
    {
        Folders(path);
        there[path] = (new FileEntry(Name(path), kind, bytes, mode, owner, group, changed, kind == FileKind.File ? $"{path.Length:x}-{bytes:x}-{changed.UtcTicks:x}" : null), content);
    }

    private void Folders(string path)
    {
        for (var end = path.IndexOf('/', 1); end > 0; end = path.IndexOf('/', end + 1))
        {
            there.TryAdd(path[..end], (new FileEntry(Name(path[..end]), FileKind.Folder, 0, 0x1ed, "root", "root", Day(30)), () => []));
        }
    }

    private static FileName Name(string path) => new FileName(path).Last();

    /// <summary>Early in the morning, so many days ago.</summary>
    private DateTimeOffset Day(int ago) => new DateTimeOffset(time.GetUtcNow().UtcDateTime.Date, TimeSpan.Zero).AddDays(-ago - 1).AddHours(5).AddMinutes(host.Number % 50);
}
