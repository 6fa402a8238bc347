using Umbrek.Cli.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Sessions;

/// <summary>What has become of a session that leads nowhere any more.</summary>
internal static class EndedSession
{
    /// <returns>Whether nobody has ended it, so that another one may be opened for the same; false where that is not written yet.</returns>
    /// <exception cref="ClientException">Somebody has ended it, or nothing is known of it.</exception>
    /// <exception cref="UnreachableException">The service does not answer.</exception>
    public static async Task<bool> IsByNobodyAsync(ApiClient api, Guid sessionId, ApiException refused, CancellationToken cancel)
    {
        SessionInfo session;
        try
        {
            session = await api.GetAsync($"sessions/{sessionId}", WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        }
        catch (ApiException)
        {
            throw new ClientException(refused.Message);
        }
        return session.EndedAt is not null && (SessionEnds.ByNobody(session.EndReason) ? true : throw new ClientException($"The session has ended: {session.EndReason}."));
    }
}
