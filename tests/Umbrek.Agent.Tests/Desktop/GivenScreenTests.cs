using System.Diagnostics;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>A real screen that a host without one is given.</summary>
public sealed class GivenScreenTests : IAsyncLifetime
{
    private readonly TestDirectory directory = new();
    private readonly CancellationTokenSource over = new();
    private Task keeps = Task.CompletedTask;

    private string Authority => Path.Combine(directory.Path, StateDirectory.ScreensName, "one.screen");

    public ValueTask InitializeAsync()
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Authority)!);
        return ValueTask.CompletedTask;
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync();
        await keeps.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        over.Dispose();
        directory.Dispose();
    }

    [Fact]
    public async Task It_has_a_terminal_whenever_there_is_nothing_else_and_belongs_to_nobody()
    {
        var screen = await MakeAsync();
        var display = XDisplays.Find().Single(d => d.Name == screen.Display);
        (display.IsGiven, display.Person, display.IsOfWayland).ShouldBe((true, null, false));
        display.Cookie().ShouldNotBeNull();

        var first = await TerminalAsync(screen);
        var file = Path.Combine(directory.Path, "typed");
        await Wait.UntilAsync(async () =>
        {
            // The shell in it may not read yet.
            await screen.AskAsync("xdotool", "type", $"echo tide >> {file}\n");
            return File.Exists(file);
        }, "the terminal to be one");
        await screen.AskAsync("xdotool", "search", "--class", "xterm", "windowkill");
        await Wait.UntilAsync(async () => await PidAsync(screen) is { } now && now != first, "another terminal");

        // It does not come beside something that is worked in.
        screen.Run("xlogo", "-geometry", "300x300+200+200");
        await Wait.UntilAsync(() => screen.ShowsAsync("xlogo"), "something else to be there");
        await screen.AskAsync("xdotool", "search", "--class", "xterm", "windowkill");
        await Wait.UntilAsync(async () => await PidAsync(screen) is null, "the terminal to go");
        var ground = await screen.PictureAsync();
        (ground.Rgb[0], ground.Rgb[1], ground.Rgb[2]).ShouldBe(((byte)0x1A, (byte)0x1F, (byte)0x29));
    }

    [Fact]
    public async Task It_goes_when_nobody_has_been_there_for_long()
    {
        var screen = await MakeAsync();
        // Somebody who has just left keeps it.
        File.SetLastWriteTimeUtc(Authority, TimeProvider.System.GetUtcNow().UtcDateTime - DesktopView.GivenStays / 2);
        using (GivenScreen.Touch(Authority, TimeProvider.System))
        {
            await Wait.UntilAsync(() => TimeProvider.System.GetUtcNow().UtcDateTime - File.GetLastWriteTimeUtc(Authority) < TimeSpan.FromMinutes(1), "it to hear of somebody");
        }
        keeps.IsCompleted.ShouldBeFalse();
        File.SetLastWriteTimeUtc(Authority, TimeProvider.System.GetUtcNow().UtcDateTime - DesktopView.GivenStays);
        await keeps.WaitAsync(TimeSpan.FromSeconds(60));
        File.Exists(Authority).ShouldBeFalse();
        XDisplays.Find().ShouldNotContain(d => d.Name == screen.Display);
    }

    [Fact]
    public async Task It_goes_with_the_agents_own_files()
    {
        var screen = await MakeAsync();
        File.Delete(Authority);
        await keeps.WaitAsync(TimeSpan.FromSeconds(60));
        XDisplays.Find().ShouldNotContain(d => d.Name == screen.Display);
    }

    [Fact]
    public async Task It_is_ended_by_the_agent_where_whoever_kept_it_was_killed()
    {
        // What such a one leaves behind: the file, and the X server that goes by it.
        await File.WriteAllTextAsync(Authority, "");
        using var server = Process.Start(new ProcessStartInfo("Xvfb", ["-displayfd", "1", "-auth", Authority, "-nolisten", "tcp", "-screen", "0", "640x480x24"]) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        try
        {
            (await server.StandardOutput.ReadLineAsync().WaitAsync(TimeSpan.FromSeconds(60))).ShouldNotBeNull();
            XDisplay Left() => XDisplays.Find().Single(d => d.Authorities.Contains(Authority));
            (Left().Server, Left().IsGiven).ShouldBe((server.Id, true));

            File.SetLastWriteTimeUtc(Authority, TimeProvider.System.GetUtcNow().UtcDateTime - DesktopView.GivenStays);
            GivenScreen.EndLeft([Left()], TimeProvider.System).Count.ShouldBe(1, "whoever keeps it is to end it");
            File.Exists(Authority).ShouldBeTrue();

            File.SetLastWriteTimeUtc(Authority, TimeProvider.System.GetUtcNow().UtcDateTime - DesktopView.GivenStays - TimeSpan.FromMinutes(3));
            GivenScreen.EndLeft([Left()], TimeProvider.System).ShouldBeEmpty();
            await server.WaitForExitAsync().WaitAsync(TimeSpan.FromSeconds(60));
            File.Exists(Authority).ShouldBeFalse();
        }
        finally
        {
            server.Kill();
        }
    }

    [Fact]
    public async Task Nobody_else_is_let_in_and_only_such_a_file_tells_that_it_was_given()
    {
        var screen = await MakeAsync();
        await Should.ThrowAsync<IOException>(() => XConnection.OpenAsync(screen.Socket, new byte[16], default));
        await Should.ThrowAsync<IOException>(() => XConnection.OpenAsync(screen.Socket, null, default));
        (File.GetUnixFileMode(Authority) & ~(UnixFileMode.UserRead | UnixFileMode.UserWrite)).ShouldBe(UnixFileMode.None);
        GivenScreen.IsOne(Authority).ShouldBeTrue();
        GivenScreen.IsOne("/home/jo/.Xauthority").ShouldBeFalse();
        GivenScreen.IsOne("/home/jo/one.screen").ShouldBeFalse();
    }

    private async Task<VirtualScreen> MakeAsync()
    {
        var made = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        keeps = GivenScreen.KeepAsync(Authority, () =>
        {
            made.SetResult();
            return Task.CompletedTask;
        }, TimeProvider.System, over.Token);
        await (await Task.WhenAny(made.Task, keeps)).WaitAsync(TimeSpan.FromSeconds(60));
        var display = XDisplays.Find().Single(d => d.Authorities.Contains(Authority));
        return VirtualScreen.Of(display.Name, Authority);
    }

    private static async Task<string> TerminalAsync(VirtualScreen screen)
    {
        string? found = null;
        await Wait.UntilAsync(async () => (found = await PidAsync(screen)) is not null, "the terminal");
        return found!;
    }

    /// <summary>The process of the terminal that is to be seen; windows get the names of those that have gone.</summary>
    private static async Task<string?> PidAsync(VirtualScreen screen) =>
        (await screen.TryAskAsync("xdotool", "search", "--onlyvisible", "--class", "xterm", "getwindowpid"))?.Trim() is { Length: > 0 } pid ? pid : null;
}
