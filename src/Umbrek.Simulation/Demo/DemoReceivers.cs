using System.Globalization;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Demo;

/// <summary>Where the demo's notices end: a mail server and a web hook's receiver on this machine, on the same ports at each start.</summary>
public sealed class DemoReceivers : IAsyncDisposable
{
    public const string MailDirectory = "mailbox";
    public const string EventFile = "events.ndjson";
    private const string PortFile = "receivers.ports";

    private readonly Mailbox mail;
    private readonly HookReceiver hook;

    private DemoReceivers(Mailbox mail, HookReceiver hook) => (this.mail, this.hook) = (mail, hook);

    public int MailPort => mail.Port;
    public Uri HookAddress => hook.Address;

    public static DemoReceivers Open(string directory)
    {
        Directory.CreateDirectory(directory);
        var file = Path.Combine(directory, PortFile);
        var ports = File.Exists(file) ? File.ReadAllText(file).Split(' ').Select(p => int.Parse(p, CultureInfo.InvariantCulture)).ToArray() : [0, 0];
        var receivers = new DemoReceivers(new Mailbox(ports[0], Path.Combine(directory, MailDirectory)), new HookReceiver(ports[1], Path.Combine(directory, EventFile)));
        File.WriteAllText(file, string.Create(CultureInfo.InvariantCulture, $"{receivers.mail.Port} {receivers.hook.Port}"));
        return receivers;
    }

    public async ValueTask DisposeAsync()
    {
        await mail.DisposeAsync().ConfigureAwait(false);
        await hook.DisposeAsync().ConfigureAwait(false);
    }
}
