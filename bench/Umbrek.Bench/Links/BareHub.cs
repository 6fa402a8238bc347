using System.Collections.Concurrent;
using Microsoft.AspNetCore.Http.Connections;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;

namespace Umbrek.Bench.Links;

/// <summary>A SignalR hub that does nothing: the limit that the link is compared with.</summary>
internal sealed class BareHub : Hub
{
    private static readonly ConcurrentDictionary<int, (TaskCompletionSource Done, int[] Left)> Rounds = new();

    public static async Task ServeAsync(int port)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseSockets(s => s.Backlog = 4096);
        builder.WebHost.ConfigureKestrel(k => k.ListenLocalhost(port));
        builder.Services.AddSignalR();
        var app = builder.Build();
        app.MapHub<BareHub>("/hub");
        // One broadcast and all replies.
        app.MapPost("/round/{id:int}/{links:int}", async (int id, int links, IHubContext<BareHub> hub) =>
        {
            var round = (new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously), new[] { links });
            Rounds[id] = round;
            await hub.Clients.All.SendAsync("Order", id, new string('x', 200));
            await round.Item1.Task;
        });
        await app.StartAsync();
        Console.WriteLine("ready");
        await app.WaitForShutdownAsync();
    }

    public void Reply(int id, string text)
    {
        _ = text;
        if (Rounds.TryGetValue(id, out var round) && Interlocked.Decrement(ref round.Left[0]) == 0)
        {
            round.Done.TrySetResult();
        }
    }

    public void Sample(string text) => _ = text;

    public static HubConnection Connect(int port)
    {
        var connection = new HubConnectionBuilder().WithUrl($"http://127.0.0.1:{port}/hub", HttpTransportType.WebSockets, o => o.SkipNegotiation = true).Build();
        connection.On<int, string>("Order", (id, text) => { connection.SendAsync("Reply", id, text + text); });
        return connection;
    }
}
