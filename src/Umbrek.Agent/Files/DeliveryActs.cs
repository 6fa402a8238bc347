using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Core.Access;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Files;

/// <summary>What a run does that is to put files here: it goes by the host's own rules as they are when it begins.</summary>
public static class DeliveryActs
{
    public static async Task<int> RunAsync(RunDirectory run, IHostPlatform platform, TextWriter say, TimeProvider time, CancellationToken cancel)
    {
        var state = StateDirectory.OfRun(run.Path);
        var order = run.ReadOrder();
        if (order is not { Command.Action.Deliver: { } wish, Ticket: { } ticket } || AgentIdentity.Load(state) is not { } identity)
        {
            return Say(say, "The order does not say where to fetch the files; nothing was put anywhere.");
        }
        var policy = new HostRules(state, identity.Allowed, new HostKeys(state, null, time), new AgentLog(TextWriter.Null, time)).InForce;
        if (!policy.Allows(HostAct.WriteFiles))
        {
            return Say(say, "This host does not allow its files to be changed; nothing was put anywhere.");
        }
        IReadOnlyList<PlaceHere> places;
        try
        {
            places = wish.Place is { } place ? platform.PlacesOf(place) : [new PlaceHere(wish.Folder!)];
        }
        catch (IOException e)
        {
            return Say(say, $"{e.Message} Nothing was put anywhere.");
        }
        using var source = new ParcelSource(identity, ticket);
        var ledgerFile = state.PartsFileOf(run.RunId);
        var ledger = new PartLedger(ledgerFile, time);
        var status = Delivery.Done;
        foreach (var here in places)
        {
            var roots = here.Within is { } within ? FileRoots.Intersect(policy.FileRoots, [within]) : policy.FileRoots;
            var folder = wish.Place is not null && wish.Folder is { } below ? here.Folder.In(below) : here.Folder;
            var delivery = new Delivery(wish, source, platform.Files(roots), platform.FileChanges(state, ledger, roots), say, time);
            status = Math.Max(status, await delivery.RunAsync(folder, wish.MakesFolder || wish.Place is not null, cancel).ConfigureAwait(false));
        }
        if (ledger.IsEmpty)
        {
            File.Delete(ledgerFile);
        }
        return status;
    }

    private static int Say(TextWriter say, string line)
    {
        say.WriteLine(line);
        return Delivery.Nothing;
    }
}
