using MailKit;
using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;
using Umbrek.Core.Health;
using Umbrek.Service.Storage;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Sends mail (RFC 5321) through the server that was set.</summary>
public sealed class MailPost(MailSetup setup, TimeProvider time) : INoticePost
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    public NoticeWay Way => NoticeWay.Mail;

    public async Task<PostResult> SendAsync(NoticeRow notice, DeliveryRow delivery, CancellationToken cancel)
    {
        var settings = await setup.GetAsync(cancel).ConfigureAwait(false);
        if (settings.Server is null || settings.From is null)
        {
            return new PostResult("No mail server is set. Set one under Rules, Notices, or with: umbrek notice mail set", Unreachable: true);
        }
        using var smtp = new SmtpClient { Timeout = (int)Patience.TotalMilliseconds };
        try
        {
            var security = settings.Security switch { MailSecurity.Tls => SecureSocketOptions.SslOnConnect, MailSecurity.StartTls => SecureSocketOptions.StartTls, _ => SecureSocketOptions.None };
            await smtp.ConnectAsync(settings.Server, settings.Port, security, cancel).ConfigureAwait(false);
            if (settings.User is { } user)
            {
                await smtp.AuthenticateAsync(user, await setup.PasswordAsync(cancel).ConfigureAwait(false) ?? "", cancel).ConfigureAwait(false);
            }
            await smtp.SendAsync(Write(delivery, settings.From), cancel).ConfigureAwait(false);
        }
        catch (SmtpCommandException e) when (e.ErrorCode is SmtpErrorCode.RecipientNotAccepted or SmtpErrorCode.MessageNotAccepted)
        {
            // RFC 5321 §4.2.1: 5yz stays so however often it is tried, 4yz passes.
            return new PostResult($"{settings.Server} does not take mail for {delivery.To}: {(int)e.StatusCode} {e.Message}", Again: (int)e.StatusCode < 500);
        }
        catch (Exception e) when (e is SmtpCommandException or SmtpProtocolException or ServiceNotConnectedException or ServiceNotAuthenticatedException or AuthenticationException or System.Security.Authentication.AuthenticationException or SslHandshakeException or NotSupportedException or IOException or System.Net.Sockets.SocketException or TimeoutException or OperationCanceledException && !cancel.IsCancellationRequested)
        {
            return new PostResult($"{settings.Server}:{settings.Port}: {e.Message.Split('\n')[0].Trim()}", Unreachable: true);
        }
        try
        {
            await smtp.DisconnectAsync(quit: true, cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is IOException or SmtpProtocolException or SmtpCommandException or System.Net.Sockets.SocketException)
        {
            // It has the mail; how it says goodbye is its own business.
        }
        return PostResult.Arrived;
    }

    private MimeMessage Write(DeliveryRow delivery, string from)
    {
        var message = new MimeMessage
        {
            Subject = delivery.Subject,
            Date = time.GetUtcNow(),
            MessageId = $"{delivery.Id:N}@umbrek.invalid",
            Body = new TextPart("plain") { Text = delivery.Body },
        };
        message.From.Add(new MailboxAddress("Umbrek", from));
        message.To.Add(MailboxAddress.Parse(delivery.To));
        // RFC 3834 §5: out-of-office answers stay away.
        message.Headers.Add("Auto-Submitted", "auto-generated");
        if (delivery.Thread is { } thread)
        {
            message.References.Add($"{thread:N}@umbrek.invalid");
        }
        return message;
    }
}
