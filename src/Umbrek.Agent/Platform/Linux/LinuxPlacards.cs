using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// Placards on the screens of the people here, each in a process of its own. Who logs in while one is there sees it too, and one whose
/// process has ended comes back.
/// </summary>
internal sealed class LinuxPlacards(Func<IReadOnlyList<XDisplay>> find, TimeProvider time)
{
    private static readonly TimeSpan BeginsWithin = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan WordStays = TimeSpan.FromSeconds(12);

    /// <summary>More at once in one corner are not shown: they would fill the screen.</summary>
    private const int MostPlaces = 6;

    private readonly TimeProvider time = time;
    private readonly Lock gate = new();
    private readonly HashSet<(PlacardKind Kind, int Place)> places = [];
    private readonly HashSet<Shown> open = [];
    private int controllers;

    /// <summary>Logons of who is at a screen.</summary>
    public IReadOnlyList<string> People => [.. Screens().Select(d => d.Person!).Distinct()];

    /// <summary>Asks on every screen where somebody is; the first button that is pressed counts. Waits until it is cancelled.</summary>
    public async Task<(string Button, string Person)> AskAsync(Placard question, CancellationToken cancel)
    {
        var pressed = new TaskCompletionSource<(string, string)>(TaskCreationOptions.RunContinuationsAsynchronously);
        using var shown = Show(question, false, (button, person) => pressed.TrySetResult((button, person)), null);
        return await pressed.Task.WaitAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Says something for a moment.</summary>
    public void Say(string text)
    {
        var shown = Show(new Placard(PlacardKind.Word, "", [new PlacardLine(null, text)], []), false, (_, _) => { }, null);
        _ = Task.Delay(WordStays, time).ContinueWith(_ => shown.Dispose(), TaskScheduler.Default);
    }

    /// <param name="pressed">Told the button and the person.</param>
    /// <param name="taken">Told, once all screens that there are have said so, how many keyboards and mice were taken away, or that they are hidden; or why one is not.</param>
    public IDisposable Show(Placard placard, bool takeInput, Action<string, string> pressed, Action<int, string?>? taken)
    {
        lock (gate)
        {
            var place = Enumerable.Range(0, MostPlaces).FirstOrDefault(p => !places.Contains((placard.Kind, p)), -1);
            if (place < 0)
            {
                return NothingShown.Instance;
            }
            places.Add((placard.Kind, place));
            var shown = new Shown(this, placard, place, takeInput, pressed, taken);
            open.Add(shown);
            shown.Begin();
            return shown;
        }
    }

    /// <summary>Until it is disposed, only what is pressed by a hand counts.</summary>
    public IDisposable HandsOnly()
    {
        Change(1);
        return new Over(() => Change(-1));
    }

    private void Change(int by)
    {
        lock (gate)
        {
            controllers += by;
            foreach (var shown in open)
            {
                shown.Care(controllers > 0);
            }
        }
    }

    private IEnumerable<XDisplay> Screens() => find().Where(d => d.Person is not null);

    private sealed class Over(Action what) : IDisposable
    {
        private Action? left = what;

        public void Dispose() => Interlocked.Exchange(ref left, null)?.Invoke();
    }

    /// <summary>One placard on all screens.</summary>
    private sealed class Shown(LinuxPlacards all, Placard placard, int place, bool takeInput, Action<string, string> pressed, Action<int, string?>? taken) : IDisposable
    {
        private readonly CancellationTokenSource over = new();
        private readonly Dictionary<string, (Task Task, ScreenHelper? Helper)> windows = [];

        /// <summary>Screens that have not said yet whether it is there, of those at the beginning.</summary>
        private HashSet<string>? awaited;
        private (int Count, string? Problem) said;
        private TaskCompletionSource ended = new();

        public void Begin() => _ = FollowAsync();

        public void Care(bool onlyByHand)
        {
            foreach (var helper in windows.Values.Select(w => w.Helper).OfType<ScreenHelper>())
            {
                _ = TellAsync(helper, new PlacardCare(onlyByHand));
            }
        }

        public void Dispose()
        {
            lock (all.gate)
            {
                if (!all.open.Remove(this))
                {
                    return;
                }
                all.places.Remove((placard.Kind, place));
                over.Cancel();
            }
        }

        private async Task FollowAsync()
        {
            await Task.Yield();
            while (!over.IsCancellationRequested)
            {
                List<XDisplay> screens = [.. all.Screens()];
                ended = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
                lock (all.gate)
                {
                    if (awaited is null && screens.Count > 0)
                    {
                        awaited = [.. screens.Select(s => s.Name)];
                    }
                    foreach (var screen in screens)
                    {
                        if (!windows.TryGetValue(screen.Name, out var window) || window.Task.IsCompleted)
                        {
                            var (show, began) = (ShowAsync(screen), all.time.GetTimestamp());
                            windows[screen.Name] = (show, null);
                            // What has been there comes back at once; what can't be shown at all is tried again now and then.
                            _ = show.ContinueWith(_ => all.time.GetElapsedTime(began) > Look && ended.TrySetResult(), TaskScheduler.Default);
                        }
                    }
                }
                await Task.WhenAny(ended.Task, Task.Delay(Look, all.time, over.Token)).ConfigureAwait(false);
            }
        }

        /// <summary>A screen has said whether it is there; the last of those at the beginning has all of it told.</summary>
        private void Say(XDisplay screen, int count, string? problem)
        {
            (int Count, string? Problem) told;
            lock (all.gate)
            {
                if (awaited?.Remove(screen.Name) != true)
                {
                    return;
                }
                said = (said.Count + count, said.Problem ?? (problem is null ? null : $"{screen.Name}: {problem}"));
                if (awaited.Count > 0)
                {
                    return;
                }
                told = said;
            }
            taken?.Invoke(told.Count, told.Problem);
        }

        private async Task ShowAsync(XDisplay screen)
        {
            await Task.Yield();
            try
            {
                await using var helper = ScreenHelper.Start(screen, PlacardProcess.Command);
                bool onlyByHand;
                lock (all.gate)
                {
                    onlyByHand = all.controllers > 0;
                }
                var answer = await helper.OrderAsync(new PlacardOrder(screen.Socket, screen.Cookie(), placard, place, takeInput, onlyByHand), ScreenJson.Default.PlacardOrder, ScreenJson.Default.PlacardAnswer, BeginsWithin, over.Token).ConfigureAwait(false);
                if (answer.Problem is { } problem)
                {
                    Say(screen, 0, problem);
                    return;
                }
                lock (all.gate)
                {
                    windows[screen.Name] = (windows[screen.Name].Task, helper);
                    if (all.controllers > 0 != onlyByHand)
                    {
                        _ = TellAsync(helper, new PlacardCare(!onlyByHand));
                    }
                }
                Say(screen, answer.Taken ?? 0, null);
                if ((await ScreenHelper.ReadLineAsync(helper.Line, ScreenJson.Default.PlacardAnswer, over.Token).ConfigureAwait(false)).Pressed is { } button)
                {
                    pressed(button, screen.Person!);
                }
            }
            catch (Exception e) when (e is IOException or JsonException or OperationCanceledException or ObjectDisposedException)
            {
                // Its process has ended, or its screen has gone; where that is still there, it comes back.
                Say(screen, 0, e.Message);
            }
            finally
            {
                lock (all.gate)
                {
                    windows[screen.Name] = (windows[screen.Name].Task, null);
                }
            }
        }

        private static async Task TellAsync(ScreenHelper helper, PlacardCare care)
        {
            try
            {
                await ScreenHelper.WriteLineAsync(helper.Line, care, ScreenJson.Default.PlacardCare, CancellationToken.None).ConfigureAwait(false);
            }
            catch (Exception e) when (e is IOException or ObjectDisposedException)
            {
                // It goes just now.
            }
        }
    }
}
