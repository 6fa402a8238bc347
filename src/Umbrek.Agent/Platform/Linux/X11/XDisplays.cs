using System.Globalization;
using System.Net.Sockets;
using System.Text;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>An X server that runs on this host.</summary>
/// <param name="Number">Of its display: "0".</param>
/// <param name="User">Whose screen it is: of who is logged in there, else whom the server runs as.</param>
/// <param name="Person">Who is logged in there; null at a login screen.</param>
/// <param name="Authorities">Files that may have what lets one in, the likeliest first.</param>
/// <param name="Server">The process of the server.</param>
/// <param name="IsGiven">The agent has had it made for technicians.</param>
public sealed record XDisplay(string Number, string Socket, int Server, uint User, string? Person, IReadOnlyList<string> Authorities, bool IsOfWayland, bool IsGiven = false)
{
    public string Name => $":{Number}";

    public byte[]? Cookie() => Authorities.Select(f => XAuthority.Find(f, Number)).FirstOrDefault(c => c is not null);
}

/// <summary>Finds the X servers that run, and who is logged in at them.</summary>
public static class XDisplays
{
    private const string Sockets = "/tmp/.X11-unix";

    /// <summary>SOL_SOCKET and SO_PEERCRED: process, user and group of who listens (unix(7)).</summary>
    private const int SocketLevel = 1;
    private const int PeerCredentials = 17;

    /// <summary>Users that the system makes for its own services are below that (login.defs(5)).</summary>
    private const uint FirstPerson = 1000;

    public static string SocketOf(string number) => Path.Combine(Sockets, $"X{number}");

    public static IReadOnlyList<XDisplay> Find()
    {
        string[] sockets;
        try
        {
            sockets = Directory.GetFiles(Sockets, "X*");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return [];
        }
        var found = new List<XDisplay>();
        List<Client>? clients = null;
        foreach (var socket in sockets)
        {
            var number = Path.GetFileName(socket)[1..];
            if (uint.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out _) && ServerOf(socket) is { } server)
            {
                found.Add(Describe(number, socket, server, clients ??= Clients()));
            }
        }
        return [.. found.OrderBy(d => uint.Parse(d.Number, CultureInfo.InvariantCulture))];
    }

    /// <summary>Whether somebody is logged in on a screen that is no X server's.</summary>
    public static bool HasWayland()
    {
        try
        {
            return Directory.Exists("/run/user") && Directory.EnumerateDirectories("/run/user").Any(d => Readable(d) && Directory.EnumerateFiles(d, "wayland-*").Any(f => !f.EndsWith(".lock", StringComparison.Ordinal)));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }

        static bool Readable(string directory)
        {
            try
            {
                using var entries = Directory.EnumerateFileSystemEntries(directory).GetEnumerator();
                return true;
            }
            catch (UnauthorizedAccessException)
            {
                return false;
            }
        }
    }

    /// <summary>A program that shows something on a display.</summary>
    private sealed record Client(uint User, string Display, string? Authority);

    private static XDisplay Describe(string number, string socket, (int Pid, uint User) server, List<Client> clients)
    {
        var arguments = Lines($"/proc/{server.Pid}/cmdline");
        var mine = clients.Where(c => c.Display == $":{number}" || c.Display.StartsWith($":{number}.", StringComparison.Ordinal)).ToList();
        // Programs of the system's own are there too, as a login screen's; a person's are what counts.
        var person = mine.Where(c => c.User >= FirstPerson || c.User == server.User).OrderByDescending(c => c.User >= FirstPerson).FirstOrDefault();
        var user = person?.User ?? mine.FirstOrDefault()?.User ?? server.User;
        var authorities = new List<string>();
        var at = arguments.IndexOf("-auth");
        if (at >= 0 && at + 1 < arguments.Count)
        {
            authorities.Add(arguments[at + 1]);
        }
        if (authorities is [var own] && GivenScreen.IsOne(own) && server.User == Native.EffectiveUser())
        {
            return new XDisplay(number, socket, server.Pid, server.User, null, authorities, false, true);
        }
        authorities.AddRange(mine.Where(c => c.User == user).Select(c => c.Authority).OfType<string>().Distinct());
        if (Native.FindUser(user) is { } account)
        {
            authorities.Add(Path.Combine(account.Home, ".Xauthority"));
        }
        return new XDisplay(
            number, socket, server.Pid, user, person is null ? null : Native.FindUser(person.User)?.Name ?? $"{person.User}", [.. authorities.Distinct()],
            arguments.Count > 0 && Path.GetFileName(arguments[0]) == "Xwayland");
    }

    /// <returns>Null where nobody answers: a server that ended badly leaves its socket.</returns>
    private static (int Pid, uint User)? ServerOf(string path)
    {
        using var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            socket.Connect(new UnixDomainSocketEndPoint(path));
            var credentials = new byte[12];
            socket.GetRawSocketOption(SocketLevel, PeerCredentials, credentials);
            return (BitConverter.ToInt32(credentials), BitConverter.ToUInt32(credentials, 4));
        }
        catch (SocketException)
        {
            return null;
        }
    }

    private static List<Client> Clients()
    {
        var clients = new List<Client>();
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(directory), NumberStyles.None, CultureInfo.InvariantCulture, out _))
            {
                continue;
            }
            var environment = Lines(Path.Combine(directory, "environ"));
            if (Value(environment, "DISPLAY") is { } display && UserOf(directory) is { } user)
            {
                clients.Add(new Client(user, display, Value(environment, "XAUTHORITY")));
            }
        }
        return clients;
    }

    private static uint? UserOf(string process)
    {
        try
        {
            // proc(5): real, effective, saved and file system user.
            var line = File.ReadLines(Path.Combine(process, "status")).FirstOrDefault(l => l.StartsWith("Uid:", StringComparison.Ordinal));
            return line?.Split('\t') is { Length: > 2 } fields && uint.TryParse(fields[2], NumberStyles.None, CultureInfo.InvariantCulture, out var user) ? user : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    private static string? Value(List<string> environment, string name) =>
        environment.Find(l => l.StartsWith(name + "=", StringComparison.Ordinal)) is { } line && line.Length > name.Length + 1 ? line[(name.Length + 1)..] : null;

    /// <summary>Texts that each end with a zero byte.</summary>
    private static List<string> Lines(string file)
    {
        try
        {
            return [.. Encoding.UTF8.GetString(File.ReadAllBytes(file)).Split('\0', StringSplitOptions.RemoveEmptyEntries)];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }
}
