using System.Security.Cryptography;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Wire.Links;

namespace Umbrek.Simulation.Estate;

/// <summary>A made-up computer's agent program is a version in a file: what is fetched is verified as on a real host, and not run.</summary>
public sealed class SimulatedUpdate(SimulatedHost host, TimeProvider time, StateDirectory? state) : IAgentUpdate
{
    private const string Older = "0.0.9";

    private string? VersionFile => state is null ? null : Path.Combine(state.Path, "agent-version");

    public string Version =>
        VersionFile is { } file && File.Exists(file) ? File.ReadAllText(file)
        : host.Story == HostStory.OldAgent ? Older
        : AgentVersion.Text;

    public string? Check(ReleaseOffer offer, byte[]? releaseKey) => InstalledUpdate.CheckOffer(offer, releaseKey);

    public async Task ReplaceAsync(ReleaseOffer offer, HttpClient service, CancellationToken cancel)
    {
        try
        {
            var program = await service.GetByteArrayAsync(ReleaseOffer.PathOf(offer.Manifest.Sha256), cancel).ConfigureAwait(false);
            if (Convert.ToHexStringLower(SHA256.HashData(program)) != offer.Manifest.Sha256)
            {
                throw new IOException($"What arrived is not version {offer.Manifest.Version}. The old version stays.");
            }
        }
        catch (HttpRequestException e)
        {
            throw new IOException(e.Message, e);
        }
        await Task.Delay(TimeSpan.FromSeconds(1 + host.Number % 3), time, cancel).ConfigureAwait(false);
        await File.WriteAllTextAsync(VersionFile ?? throw new IOException("This simulated host has no directory to keep a version in."), offer.Manifest.Version, cancel).ConfigureAwait(false);
    }

    public void Prove()
    {
    }

    public UpdateReport? Report() => null;

    public void Reported()
    {
    }
}
