using System.Diagnostics;
using System.Globalization;

namespace Umbrek.Tests;

/// <summary>A real X server without a monitor, and programs on it.</summary>
public sealed class VirtualScreen : IAsyncDisposable
{
    private readonly Process? server;
    private readonly string? authority;
    private readonly List<Process> programs = [];

    private VirtualScreen(Process? server, int number, string? authority = null) => (this.server, Number, this.authority) = (server, number, authority);

    /// <summary>One that somebody else has made, and ends.</summary>
    /// <param name="authority">The file that lets one in there.</param>
    public static VirtualScreen Of(string display, string authority) => new(null, int.Parse(display.TrimStart(':'), CultureInfo.InvariantCulture), authority);

    public int Number { get; }
    public string Display => $":{Number}";
    public string Socket => $"{Sockets}/X{Number}";

    /// <summary>Where X servers put their sockets.</summary>
    public const string Sockets = "/tmp/.X11-unix";

    /// <param name="size">Width x height x depth.</param>
    public static Task<VirtualScreen> StartAsync(string size = "1280x800x24", params string[] more) => StartAsync(size, null, more);

    /// <param name="number">Of the display, where it is to be that one.</param>
    /// <param name="sockets">
    /// A directory that stands for <see cref="Sockets"/>: the server is seen by those who have it there too. Its abstract socket stays
    /// the whole machine's (unix(7)), by which the test's own programs reach it. Null is the machine's.
    /// </param>
    public static async Task<VirtualScreen> StartAsync(string size, int? number, string[] more, string? sockets = null)
    {
        // It says by itself which display it has taken, once it can be come to.
        string[] begin = sockets is null ? ["Xvfb"] : ["unshare", "--mount", "sh", "-c", $"mkdir -p {Sockets} && mount --bind {sockets} {Sockets} && exec Xvfb \"$@\"", "sh"];
        var start = new ProcessStartInfo(begin[0]) { RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (var argument in (string[])[.. begin[1..], .. number is { } n ? [$":{n}"] : (string[])[], "-displayfd", "1", "-screen", "0", size, "-nolisten", "tcp", "-noreset", .. more])
        {
            start.ArgumentList.Add(argument);
        }
        var server = Process.Start(start)!;
        server.ErrorDataReceived += (_, _) => { };
        server.BeginErrorReadLine();
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var line = await server.StandardOutput.ReadLineAsync(limit.Token);
        return new VirtualScreen(server, int.Parse(line!, CultureInfo.InvariantCulture));
    }

    /// <summary>Starts a program on it, which ends with it.</summary>
    public Process Run(string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(program) { RedirectStandardOutput = true, RedirectStandardInput = true, RedirectStandardError = true };
        foreach (var argument in arguments)
        {
            start.ArgumentList.Add(argument);
        }
        start.Environment["DISPLAY"] = Display;
        if (authority is not null)
        {
            start.Environment["XAUTHORITY"] = authority;
        }
        var started = Process.Start(start)!;
        programs.Add(started);
        return started;
    }

    /// <summary>Starts a window manager. A window that comes while it begins may be overlooked by it, so it is waited for.</summary>
    public async Task ManageAsync()
    {
        const string ready = "TEST_MANAGER_READY";
        Run("openbox", "--startup", $"xprop -root -f {ready} 8s -set {ready} yes");
        await Wait.UntilAsync(async () => (await TryAskAsync("xprop", "-root", ready))?.Contains("yes", StringComparison.Ordinal) == true, "the window manager");
    }

    /// <summary>Runs a program to its end.</summary>
    public async Task<string> AskAsync(string program, params string[] arguments)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        using var run = Run(program, arguments);
        programs.Remove(run);
        run.StandardInput.Close();
        var said = run.StandardOutput.ReadToEndAsync(limit.Token);
        var complained = run.StandardError.ReadToEndAsync(limit.Token);
        await run.WaitForExitAsync(limit.Token);
        return run.ExitCode == 0 ? await said : throw new InvalidOperationException($"{program} ended with {run.ExitCode}: {await complained}");
    }

    /// <summary>The same, for what may not be there yet.</summary>
    /// <returns>Null where it went wrong.</returns>
    public async Task<string?> TryAskAsync(string program, params string[] arguments)
    {
        try
        {
            return await AskAsync(program, arguments);
        }
        catch (InvalidOperationException)
        {
            return null;
        }
    }

    /// <summary>Whether a window of that title is there to be seen and typed into.</summary>
    public async Task<bool> ShowsAsync(string title) => (await TryAskAsync("xwininfo", "-name", title))?.Contains("IsViewable", StringComparison.Ordinal) == true;

    /// <summary>What it shows, by a program that is not ours: three bytes a pixel.</summary>
    public async Task<(int Width, int Height, byte[] Rgb)> PictureAsync()
    {
        var file = Path.Combine(Path.GetTempPath(), $"screen-{Guid.NewGuid():N}");
        try
        {
            await AskAsync("xwd", "-root", "-silent", "-out", file);
            var size = (await AskAsync("identify", "-format", "%w %h", $"xwd:{file}")).Split(' ');
            await AskAsync("convert", $"xwd:{file}", "-depth", "8", $"rgb:{file}.rgb");
            return (int.Parse(size[0], CultureInfo.InvariantCulture), int.Parse(size[1], CultureInfo.InvariantCulture), await File.ReadAllBytesAsync($"{file}.rgb"));
        }
        finally
        {
            File.Delete(file);
            File.Delete($"{file}.rgb");
        }
    }

    public void Kill() => server!.Kill();

    public async ValueTask DisposeAsync()
    {
        foreach (var program in programs)
        {
            if (!program.HasExited)
            {
                program.Kill(entireProcessTree: true);
            }
            program.Dispose();
        }
        if (server is null)
        {
            return;
        }
        if (!server.HasExited)
        {
            server.Kill();
        }
        await server.WaitForExitAsync();
        server.Dispose();
    }
}
