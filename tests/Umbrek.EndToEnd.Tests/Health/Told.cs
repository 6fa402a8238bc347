using Umbrek.Core.Health;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Simulation.Health;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.EndToEnd.Tests.Health;

/// <summary>Everything that a service tells, by mail and by web hook.</summary>
internal sealed class Told : IAsyncDisposable
{
    private readonly Mailbox mailbox = new();
    private readonly HookReceiver receiver = new();

    public async Task TellAsync(World world)
    {
        await world.Api.PutAsync("settings/mail", new MailSettingsWish("127.0.0.1", mailbox.Port, MailSecurity.None, null, null, "umbrek@halyard.example", $"{world.Address}"), 0, WireJson.Default.MailSettingsWish, WireJson.Default.MailSettings, default);
        await world.Api.PostAsync("notices", new NewNotice("Desk", NoticeWay.Hook, Severity.Warning, Url: $"{receiver.Address}"), WireJson.Default.NewNotice, WireJson.Default.NoticeMade, default);
        await world.Api.PostAsync("notices", new NewNotice("Ines", NoticeWay.Mail, Severity.Warning, Addresses: ["ines@halyard.example"]), WireJson.Default.NewNotice, WireJson.Default.NoticeMade, default);
    }

    /// <summary>Events that hold all of the texts.</summary>
    public int Events(params string[] texts) => receiver.Calls.Count(c => texts.All(t => c.Body.Contains(t, StringComparison.Ordinal)));

    /// <summary>Mails that hold the text, wherever its lines end (RFC 5322, 2.2.3; RFC 2045, 6.7).</summary>
    public int Mails(string text) => mailbox.Mails.Count(m => m.Message.Replace("=\r\n", "", StringComparison.Ordinal).Replace("\r\n", " ", StringComparison.Ordinal).Replace("  ", " ", StringComparison.Ordinal).Contains(text, StringComparison.Ordinal));

    public async ValueTask DisposeAsync()
    {
        await receiver.DisposeAsync();
        await mailbox.DisposeAsync();
    }
}
