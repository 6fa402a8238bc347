using Umbrek.Wire.Links;

namespace Umbrek.Agent.Enrolment;

/// <summary>How this host's agent program is replaced.</summary>
public interface IAgentUpdate
{
    /// <returns>Null when the update can be begun, or a sentence that says why not.</returns>
    string? Check(ReleaseOffer offer, byte[]? releaseKey);

    /// <summary>Fetches, verifies and puts in place; when it returns the agent is to end and be started again.</summary>
    /// <exception cref="IOException">With a sentence that says why the old version stays.</exception>
    Task ReplaceAsync(ReleaseOffer offer, HttpClient service, CancellationToken cancel);

    /// <summary>The running version came as far as a link.</summary>
    void Prove();

    /// <summary>What became of the last update, when the service has yet to be told of it.</summary>
    UpdateReport? Report();

    /// <summary>The service knows of <see cref="Report"/>.</summary>
    void Reported();
}
