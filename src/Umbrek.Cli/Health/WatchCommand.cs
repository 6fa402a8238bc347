using System.CommandLine;
using System.Text;
using System.Text.Json;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Health;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary><c>umbrek watch</c>: the estate on a terminal, live.</summary>
public static class WatchCommand
{
    private const string Open = "\u001b[?1049h\u001b[?25l";
    private const string Close = "\u001b[?25h\u001b[?1049l";
    private static readonly TimeSpan Blink = TimeSpan.FromMilliseconds(50);

    public static Command Watch(ClientContext client)
    {
        var place = new Option<string?>("--in") { Description = "Only this customer or group; everything when left out." };
        var every = new Option<string>("--every") { Description = "How often it looks, at least 1s.", DefaultValueFactory = _ => "2s" };
        var once = new Option<bool>("--once") { Description = "Show it once and end." };
        var command = ClientCommands.Named("watch", "Shows the estate live: what needs a person, then every place. With --output json a line whenever something has changed.", "umbrek watch --in 'Saltmarsh Ferry'");
        command.Add(place, every, once);
        command.SetAction(async (parsed, cancel) =>
        {
            var pause = Typed.Span(parsed.GetRequiredValue(every));
            if (pause < TimeSpan.FromSeconds(1))
            {
                throw new ClientException("--every is 1s at least.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var state = await LookAsync(api, parsed.GetValue(place), client.Time, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                return await TellAsync(api, state, parsed.GetValue(place), parsed.GetValue(once), pause, client.Time, cancel).ConfigureAwait(false);
            }
            if (parsed.GetValue(once) || Console.IsOutputRedirected)
            {
                WatchView.Draw(state, Console.IsOutputRedirected ? 120 : Console.WindowWidth, int.MaxValue, -1, colour: false).ForEach(Console.Out.WriteLine);
                return ExitCodes.Done;
            }
            await ShowAsync(api, state, parsed.GetValue(place), pause, client.Time, cancel).ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    private static async Task<WatchState> LookAsync(ApiClient api, string? place, TimeProvider time, CancellationToken cancel)
    {
        var overview = await api.GetAsync($"overview{(place is null ? "" : $"?path={Uri.EscapeDataString(place)}")}", WireJson.Default.HealthOverview, cancel).ConfigureAwait(false);
        var on = place is null ? "" : $"?on={Uri.EscapeDataString($"in {Core.Estate.SelectionWords.Quote(place)}")}";
        return new WatchState(overview, (await api.GetAsync($"alerts{on}", WireJson.Default.PageAlertLine, cancel).ConfigureAwait(false)).Items, time.GetUtcNow());
    }

    /// <summary>As <see cref="LookAsync"/>, but a service that does not answer leaves what was known, and says so.</summary>
    private static async Task<WatchState> LookAgainAsync(ApiClient api, WatchState before, string? place, TimeProvider time, CancellationToken cancel)
    {
        try
        {
            return await LookAsync(api, place, time, cancel).ConfigureAwait(false);
        }
        catch (UnreachableException e)
        {
            return before with { Problem = e.Message };
        }
    }

    private static async Task<int> TellAsync(ApiClient api, WatchState state, string? place, bool once, TimeSpan pause, TimeProvider time, CancellationToken cancel)
    {
        var told = "";
        while (true)
        {
            var text = JsonSerializer.Serialize(new EstateState(state.Overview, state.Alerts), WireJson.Default.EstateState);
            if (text != told)
            {
                Console.Out.WriteLine(told = text);
            }
            if (once)
            {
                return ExitCodes.Done;
            }
            await Task.Delay(pause, time, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (cancel.IsCancellationRequested)
            {
                return ExitCodes.Done;
            }
            state = await LookAgainAsync(api, state, place, time, cancel).ConfigureAwait(false);
        }
    }

    private static async Task ShowAsync(ApiClient api, WatchState state, string? place, TimeSpan pause, TimeProvider time, CancellationToken cancel)
    {
        var colour = Environment.GetEnvironmentVariable("NO_COLOR") is null or "";
        var chosen = 0;
        Terminal.Draw(Open);
        try
        {
            var lookAt = time.GetUtcNow() + pause;
            for (var drawn = ""; !cancel.IsCancellationRequested;)
            {
                var frame = new StringBuilder("\u001b[H");
                foreach (var line in WatchView.Draw(state, Console.WindowWidth, Console.WindowHeight - 1, chosen, colour))
                {
                    frame.Append(line).Append("\u001b[K\r\n");
                }
                if (frame.Append("\u001b[J").ToString() is var text && text != drawn)
                {
                    Terminal.Draw(drawn = text);
                }
                while (!Console.IsInputRedirected && Console.KeyAvailable)
                {
                    switch (Console.ReadKey(intercept: true))
                    {
                        case { KeyChar: 'q' }:
                            return;
                        case { Key: ConsoleKey.DownArrow }:
                            chosen = Math.Min(chosen + 1, Math.Max(0, state.Alerts.Count - 1));
                            break;
                        case { Key: ConsoleKey.UpArrow }:
                            chosen = Math.Max(0, chosen - 1);
                            break;
                        case { KeyChar: 'a' } when chosen < state.Alerts.Count:
                            state = await TakeUpAsync(api, state, state.Alerts[chosen], place, time, cancel).ConfigureAwait(false);
                            break;
                    }
                }
                await Task.Delay(Blink, time, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (time.GetUtcNow() >= lookAt && !cancel.IsCancellationRequested)
                {
                    state = await LookAgainAsync(api, state, place, time, cancel).ConfigureAwait(false);
                    lookAt = time.GetUtcNow() + pause;
                }
            }
        }
        finally
        {
            Terminal.Draw(Close);
        }
    }

    private static async Task<WatchState> TakeUpAsync(ApiClient api, WatchState state, AlertLine line, string? place, TimeProvider time, CancellationToken cancel)
    {
        try
        {
            await api.PostAsync("alerts/acts", new AlertAct([.. line.Alerts.Select(a => a.Id)], AlertActKind.Acknowledge), WireJson.Default.AlertAct, WireJson.Default.PageAlertInfo, cancel).ConfigureAwait(false);
            return await LookAsync(api, place, time, cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is ApiException or UnreachableException)
        {
            return state with { Problem = e.Message };
        }
    }
}
