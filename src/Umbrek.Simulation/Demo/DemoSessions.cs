using System.Text;
using Umbrek.Core.Shell;
using Umbrek.Simulation.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Simulation.Demo;

/// <summary>Technicians who work on hosts while the demo begins: where the policy says so, they leave recordings.</summary>
public sealed class DemoSessions(DemoWorld world)
{
    private static readonly TimeSpan Keystroke = TimeSpan.FromMilliseconds(70);
    private static readonly TimeSpan Thinking = TimeSpan.FromSeconds(1.2);
    private static readonly TimeSpan Between = TimeSpan.FromSeconds(1);

    /// <summary>Each does his work, unless there are recordings from an earlier start.</summary>
    public async Task WorkAsync(CancellationToken cancel)
    {
        using var lead = await world.SignInAsync(cancel).ConfigureAwait(false);
        if ((await lead.GetAsync("recordings?limit=1", WireJson.Default.PageRecordingInfo, cancel).ConfigureAwait(false)).Items.Count == 0)
        {
            await Task.WhenAll(ScenarioSessions.All.Select(s => WorkAsync(lead, s, cancel))).ConfigureAwait(false);
        }
    }

    private async Task WorkAsync(ApiClient lead, ScenarioSession work, CancellationToken cancel)
    {
        using var api = await SignInAsync(work.Technician, cancel).ConfigureAwait(false);
        var page = await lead.GetAsync($"hosts?selection={Uri.EscapeDataString(work.Host)}", WireJson.Default.PageHostSummary, cancel).ConfigureAwait(false);
        if (page.Items is not [var host, ..])
        {
            // A small demo has not everybody.
            return;
        }
        SessionInfo? session = null;
        while (session is null)
        {
            try
            {
                session = await api.PostAsync($"hosts/{host.Id}/sessions", new NewSession(work.Reason), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
            }
            catch (ApiException e) when (e.Problem.Word == ProblemTypes.HostAway)
            {
                await Task.Delay(Between, cancel).ConfigureAwait(false);
            }
        }
        await (work.IsAtDesktop ? DemoDesktops.WorkAsync(world, api, session, work.Lines, cancel) : TypeAsync(api, session, work, cancel)).ConfigureAwait(false);
        if (work.Note is { } note)
        {
            await api.PutAsync($"sessions/{session.Id}/note", new SessionNote(note), 0, WireJson.Default.SessionNote, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        }
        await api.ActAsync(HttpMethod.Post, $"sessions/{session.Id}/end", cancel).ConfigureAwait(false);
    }

    /// <summary>The lead is signed in already: another device of hers would ask whether it is hers.</summary>
    private async Task<ApiClient> SignInAsync(string technician, CancellationToken cancel)
    {
        var account = world.Accounts.Find(a => a.Name == technician)!;
        if (account == world.Accounts[0])
        {
            return await world.SignInAsync(cancel).ConfigureAwait(false);
        }
        using var anonymous = new ApiClient(world.Address, world.Pin);
        var answer = await anonymous.PostAsync("sign-in", new SignInRequest(account.Name, account.Password, SignInUse.Token, "demo"), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, cancel).ConfigureAwait(false);
        return new ApiClient(world.Address, world.Pin, answer.Token);
    }

    private async Task TypeAsync(ApiClient api, SessionInfo session, ScenarioSession work, CancellationToken cancel)
    {
        var (socket, _) = await ChannelSocket.OpenAsync(api, world.Pin, session.Id, new NewChannel(ChannelKinds.Shell, new ShellWish { Terminal = new TerminalSize(100, 26) }), cancel).ConfigureAwait(false);
        using var open = socket;
        using var frames = new ShellFrames(socket);
        var typing = Task.CompletedTask;
        while (await frames.ReceiveAsync(cancel).ConfigureAwait(false) is { } message)
        {
            if (message.Word?.Opened is not null)
            {
                typing = TypeAsync(frames, work.Lines, cancel);
            }
            else if (message.Word is { Ended: not null } or { Problem: not null })
            {
                await frames.SendAsync(new ShellWord(End: true), cancel).ConfigureAwait(false);
                break;
            }
        }
        await typing.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private static async Task TypeAsync(ShellFrames frames, IReadOnlyList<string> lines, CancellationToken cancel)
    {
        foreach (var line in lines)
        {
            await Task.Delay(Thinking, cancel).ConfigureAwait(false);
            foreach (var key in line + "\r")
            {
                await frames.SendAsync(ShellStream.Input, Encoding.UTF8.GetBytes([key]), cancel).ConfigureAwait(false);
                await Task.Delay(Keystroke, cancel).ConfigureAwait(false);
            }
        }
    }
}
