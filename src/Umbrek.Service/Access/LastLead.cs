using Umbrek.Core.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Somebody must always be able to let others in.</summary>
public static class LastLead
{
    /// <summary>Asked inside the transaction of every change that could take the last one away; it is taken back then.</summary>
    public static async Task KeepAsync(UmbrekContext db, CancellationToken cancel)
    {
        if (!(await AccessIndex.ReadHeldAsync(db, cancel).ConfigureAwait(false)).Any(held => held.Any(AccessRules.IsLead)))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "After this nobody could administer everything any more, and nobody could ever be let in again. Nothing was changed. Make somebody else lead on everything first, without an end.");
        }
    }
}
