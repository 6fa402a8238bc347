using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>What one has sent to the service for hosts to fetch.</summary>
public static class ParcelCommands
{
    public static Command Parcel(ClientContext client)
    {
        var command = ClientCommands.Named("parcel", "What you have sent to the service for hosts to fetch, while it is kept.", "umbrek parcel list");
        command.Add(List(client), Remove(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists what the service keeps of yours, newest first.", "umbrek parcel list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), await api.GetAsync("parcels", WireJson.Default.ListParcelInfo, cancel).ConfigureAwait(false), WireJson.Default.ListParcelInfo, "The service keeps nothing of yours. Deliver something: umbrek deliver FILE --on HOSTS --to FOLDER",
                new("Id", p => Words.ShortId(p.Id), Machine: p => $"{p.Id}"),
                new("Parcel", p => TerminalText.Line(p.Name)),
                new("Files", p => $"{p.Files}", Right: true),
                new("Size", p => Units.Bytes(p.Bytes), Right: true, Machine: p => $"{p.Bytes}"),
                new("Sent", p => p.Digest is null ? $"{Units.Bytes(p.Received)} so far" : Words.Ago(p.CreatedAt, now), Machine: p => Words.Iso(p.CreatedAt)),
                new("Kept", p => $"{Units.Span(p.KeptUntil - now)} yet", Machine: p => Words.Iso(p.KeptUntil)));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var id = new Argument<string>("id") { Description = "The parcel's id, or the last characters of it." };
        var command = ClientCommands.Named("remove", "Removes one that no host is to fetch any more, before its time.", "umbrek parcel remove 3b1c90de");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var parcel = ShortIds.Find(await api.GetAsync("parcels", WireJson.Default.ListParcelInfo, cancel).ConfigureAwait(false), p => p.Id, parsed.GetRequiredValue(id), "parcel", "umbrek parcel list");
            await api.ActAsync(HttpMethod.Delete, $"parcels/{parcel.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{TerminalText.Line(parcel.Name)}' is kept no longer.", parcel, WireJson.Default.ParcelInfo);
            return ExitCodes.Done;
        });
        return command;
    }
}
