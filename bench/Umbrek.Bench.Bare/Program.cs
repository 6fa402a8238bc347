using Microsoft.AspNetCore.Http.Connections;
using Microsoft.AspNetCore.SignalR.Client;

// The least that native programs of their kind can be: what the agent and the client are compared with.
switch (args)
{
    case ["link", var url]:
        var connection = new HubConnectionBuilder().WithUrl(url, HttpTransportType.WebSockets, o => o.SkipNegotiation = true).Build();
        await connection.StartAsync();
        Console.WriteLine("linked");
        await Task.Delay(Timeout.Infinite);
        return 0;
    case ["get", var url, var token]:
        using (var handler = new SocketsHttpHandler())
        {
            handler.SslOptions.RemoteCertificateValidationCallback = (_, certificate, _, _) => certificate is not null;
            using var http = new HttpClient(handler);
            http.DefaultRequestHeaders.Add("Authorization", $"Bearer {token}");
            Console.Write(await http.GetStringAsync(url));
        }
        return 0;
    default:
        return 2;
}
