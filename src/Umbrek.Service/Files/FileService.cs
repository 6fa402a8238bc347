using System.Globalization;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Sessions;
using Umbrek.Wire;
using Umbrek.Wire.Files;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Files;

/// <summary>Lets technicians to the files of hosts, and remembers what was done with them.</summary>
public sealed class FileService(SessionService sessions, ActingChannels channels, Gate gate, EstateIndex estate, AuditLog audit)
{
    public async Task<ChannelTicket> OpenAsync(Guid sessionId, NewChannel wish, Asker by, CancellationToken cancel)
    {
        var files = wish.Files ?? new FilesWish();
        var session = await sessions.GetAsync(sessionId, by, cancel).ConfigureAwait(false);
        var host = gate.Host(by, session.HostId, PermissionFor(files));
        return await channels.OpenAsync(sessionId, host, wish with { Files = files }, by, files.Act(), files, LinkJson.Default.FilesWish, wish.Kind, files.Changes ? "file.change" : "file.look", [], null, cancel).ConfigureAwait(false);
    }

    public static Permission PermissionFor(FilesWish wish) => wish.Changes ? Permission.WriteFiles : Permission.ReadFiles;

    /// <summary>A host says what was done on one of its channels. Of channels that it was not told to come to, nothing is believed.</summary>
    public async Task ToldAsync(Guid hostId, FileReport report)
    {
        if (await sessions.ReportsOfAsync(report.ChannelId, hostId).ConfigureAwait(false) is not { } session)
        {
            return;
        }
        var host = estate.Find(hostId);
        await audit.AddAsync(
            new Caller(session.Technician, session.Address), $"file.{report.Deed.ToString().ToLowerInvariant()}", host is null ? $"{hostId}" : $"{host.Label} in {host.GroupPath}", CancellationToken.None,
            ("session", $"{session.Id}"), ("path", TerminalText.Line(report.Path.Text)), ("files", Number(report.Files)), ("bytes", report.Deed is FileDeed.Read or FileDeed.Write ? Number(report.Bytes) : null),
            ("sha256", report.Sha256 is { } hash ? Convert.ToHexStringLower(hash) : null), ("to", report.To is { } to ? TerminalText.Line(to) : null), ("problems", report.Problems > 0 ? Number(report.Problems) : null)).ConfigureAwait(false);
    }

    private static string Number(long number) => number.ToString(CultureInfo.InvariantCulture);
}
