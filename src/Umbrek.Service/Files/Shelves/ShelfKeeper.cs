using System.Diagnostics;
using System.Net.WebSockets;
using Umbrek.Service.Enrolment;
using Umbrek.Service.Relay;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Shelves;

/// <summary>
/// Opens the files of a shelf. They are kept by the agent program that came with the service, in a process of its own that gets at
/// nothing else: what a channel to a host's files can do, one to a shelf can, in the same words.
/// </summary>
public sealed class ShelfKeeper(ShelfFiles files, AgentPrograms programs)
{
    /// <summary>So long a keeper may finish what it does when its channel is closed.</summary>
    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(10);

    /// <param name="changes">To change what is there, and not to read what is in it.</param>
    /// <param name="ended">With it the channel ends.</param>
    public OwnEnd Open(Guid id, bool changes, CancellationToken ended)
    {
        files.Begin(id);
        var start = new ProcessStartInfo(programs.Needed().File) { RedirectStandardInput = true, RedirectStandardOutput = true };
        foreach (var word in new[] { "shelf", files.FolderOf(id), files.StateOf(id) })
        {
            start.ArgumentList.Add(word);
        }
        if (changes)
        {
            start.ArgumentList.Add("--changes");
        }
        // Nothing of what the service was started with is its keeper's business.
        start.Environment.Clear();
        var process = Process.Start(start)!;
        var line = new TwoWayStream(process.StandardOutput.BaseStream, process.StandardInput.BaseStream);
        var socket = WebSocket.CreateFromStream(line, new WebSocketCreationOptions { IsServer = false });
        return new OwnEnd(socket, () => { }, () => _ = EndAsync(process, socket), ended);
    }

    private static async Task EndAsync(Process process, WebSocket socket)
    {
        using (process)
        {
            socket.Dispose();
            using var limit = new CancellationTokenSource(Parting);
            try
            {
                await process.WaitForExitAsync(limit.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException)
            {
                process.Kill(entireProcessTree: true);
            }
        }
    }
}
