using System.Net.WebSockets;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>
/// Serves one folder to the service that started it, over standard input and output: what the service keeps of hosts is read and
/// changed by the same hands as what lies on them, in a process that gets at nothing else.
/// </summary>
public sealed class ShelfServer(string folder, StateDirectory state, IHostPlatform platform, TimeProvider time, AgentLog log)
{
    /// <summary>So long what was taken away can be put back.</summary>
    public static readonly TimeSpan Kept = TimeSpan.FromDays(30);

    /// <param name="changes">Files are changed, and what is in them is not read; one at a time does so.</param>
    public async Task ServeAsync(Stream line, bool changes, CancellationToken cancel)
    {
        using var socket = WebSocket.CreateFromStream(line, new WebSocketCreationOptions { IsServer = true });
        var frames = FileFrames.OfHost(socket);
        state.Create();
        using var held = changes ? state.TryLock() : null;
        if (changes && held is null)
        {
            await frames.SayAsync(new FileWord(Refusal: "Something else is being put on it; wait for its end."), cancel).ConfigureAwait(false);
            await frames.CloseAsync(cancel).ConfigureAwait(false);
            return;
        }
        var ledger = new PartLedger(state.PartsFile, time);
        IReadOnlyList<string> roots = [folder];
        if (changes)
        {
            FileView.Tidy(ledger, log);
            Tidy(platform.FileChanges(state, ledger, roots));
        }
        using var gone = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        await new FileServing(platform, state, ledger, roots, (_, _) => ValueTask.CompletedTask, log).AnswerAsync(frames, changes, Guid.Empty, gone).ConfigureAwait(false);
        await frames.CloseAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Empties what has lain in the trash for long: nobody else does, and the disk is the service's own.</summary>
    private void Tidy(IFileChanges files)
    {
        var before = time.GetUtcNow() - Kept;
        try
        {
            foreach (var item in files.Trash().Where(i => i.DeletedAt < before).ToList())
            {
                var left = files.Empty(item.Id).Select(f => f.Problem).FirstOrDefault(p => p is not null);
                if (left is not null)
                {
                    log.Warning($"{item.Path} lies in a shelf's trash for more than {Kept.Days} days and can't be removed: {left}");
                }
            }
        }
        catch (IOException e)
        {
            log.Warning($"a shelf's trash can't be tidied: {e.Message}");
        }
    }
}
