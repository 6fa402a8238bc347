using System.Net.Http.Headers;
using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Enrolment;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Enrolment;

/// <summary>
/// Replaces an installed agent. Each step leaves the host with a program that starts: the old one until the link is turned, then
/// the new one on trial, which <see cref="LaunchScript"/> takes back unless <see cref="Prove"/> is reached. A power cut between
/// any two steps is a step that was not done.
/// </summary>
public sealed class InstalledUpdate(Installation installation, StateDirectory state) : IAgentUpdate
{
    private string Incoming => Path.Combine(installation.Directory, "incoming");
    private string PendingFile => Path.Combine(state.Path, "update.json");

    /// <summary>Null where the agent was not installed but is run by hand.</summary>
    public static InstalledUpdate? Find(StateDirectory state) => Installation.Load(state) is { } installation ? new InstalledUpdate(installation, state) : null;

    public static string? CheckOffer(ReleaseOffer offer, byte[]? releaseKey) =>
        offer.Manifest is not { } manifest || offer.Signature is null || ReleaseManifest.CheckVersion(manifest.Version) is not null || manifest.Size is <= 0 or > ReleaseManifest.MaxSize
            ? "The release is malformed; nothing was changed."
        : releaseKey is null ? "This host joined before there were signed updates and knows no release key. Install the agent on it anew."
        : !manifest.IsSignedBy(releaseKey, offer.Signature) ? $"The signature of version {manifest.Version} is wrong: it was not made with the release key that this host learnt when it joined. Nothing was fetched."
        : manifest.System != "linux-x64" ? $"Version {manifest.Version} is for {manifest.System}; this host is linux-x64."
        : null;

    public string? Check(ReleaseOffer offer, byte[]? releaseKey) => CheckOffer(offer, releaseKey)
        ?? (File.Exists(installation.TrialFile) ? "Another update is still on trial." : null);

    public async Task ReplaceAsync(ReleaseOffer offer, HttpClient service, CancellationToken cancel)
    {
        StateDirectory.WriteWhole(PendingFile, offer.Manifest, AgentJson.Default.ReleaseManifest);
        await FetchAsync(offer.Manifest, service, cancel).ConfigureAwait(false);
        foreach (var step in Steps(offer.Manifest))
        {
            step();
        }
    }

    /// <summary>What follows once the program is here, each step whole or not done.</summary>
    public IEnumerable<Action> Steps(ReleaseManifest manifest)
    {
        var before = installation.CurrentVersion;
        var placed = "";
        yield return () => Verify(manifest);
        yield return () => placed = installation.Place(Incoming, manifest.Version);
        yield return () => File.Delete(Incoming);
        yield return () => WriteTrial(before);
        yield return () => installation.PointTo(placed);
    }

    public void Prove()
    {
        if (!File.Exists(installation.TrialFile))
        {
            return;
        }
        var before = File.ReadLines(installation.TrialFile).First();
        File.Delete(installation.TrialFile);
        if (before == installation.CurrentVersion)
        {
            // The cut came before the link was turned: this is the old version, and there was no trial.
            return;
        }
        File.Delete(PendingFile);
        foreach (var old in Directory.EnumerateFiles(installation.Versions).Where(v => Path.GetFileName(v) != installation.CurrentVersion))
        {
            File.Delete(old);
        }
    }

    public UpdateReport? Report()
    {
        if (!File.Exists(installation.WentBackFile) || LoadPending() is not { } tried)
        {
            return null;
        }
        return new UpdateReport(tried.Version, WentBack: true, File.ReadAllText(installation.WentBackFile).Trim());
    }

    public void Reported()
    {
        if (File.Exists(installation.WentBackFile))
        {
            // Without this file nothing was told, and what is pending may be an update that is just being put in its place.
            File.Delete(installation.WentBackFile);
            File.Delete(PendingFile);
        }
    }

    /// <summary>Goes on where an earlier attempt at the same program ended (RFC 9110 §14).</summary>
    private async Task FetchAsync(ReleaseManifest manifest, HttpClient service, CancellationToken cancel)
    {
        try
        {
            var have = new FileInfo(Incoming) is { Exists: true } file && file.Length <= manifest.Size ? file.Length : 0;
            using var request = new HttpRequestMessage(HttpMethod.Get, ReleaseOffer.PathOf(manifest.Sha256));
            request.Headers.Range = have > 0 && have < manifest.Size ? new RangeHeaderValue(have, null) : null;
            if (have == manifest.Size)
            {
                return;
            }
            using var response = await service.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel).ConfigureAwait(false);
            response.EnsureSuccessStatusCode();
            await using var to = response.StatusCode == System.Net.HttpStatusCode.PartialContent ? new FileStream(Incoming, FileMode.Append) : new FileStream(Incoming, FileMode.Create);
            await using var from = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
            await from.CopyToAsync(to, cancel).ConfigureAwait(false);
            to.Flush(flushToDisk: true);
        }
        catch (HttpRequestException e)
        {
            throw new IOException($"Version {manifest.Version} can't be fetched: {ApiClient.ExplainUnreachable(service.BaseAddress!, null, e)}", e);
        }
    }

    private void Verify(ReleaseManifest manifest)
    {
        string found;
        using (var program = File.OpenRead(Incoming))
        {
            found = program.Length == manifest.Size ? Convert.ToHexStringLower(SHA256.HashData(program)) : $"{program.Length} bytes";
        }
        if (found != manifest.Sha256)
        {
            File.Delete(Incoming);
            throw new IOException($"What arrived is not version {manifest.Version} ({found}). The old version stays.");
        }
    }

    private void WriteTrial(string before)
    {
        var making = installation.TrialFile + ".new";
        File.Delete(making);
        using (var stream = OwnerOnly.CreateFile(making))
        {
            stream.Write(System.Text.Encoding.UTF8.GetBytes($"{before}\n0\n"));
            stream.Flush(flushToDisk: true);
        }
        File.Move(making, installation.TrialFile, overwrite: true);
    }

    private ReleaseManifest? LoadPending()
    {
        try
        {
            return File.Exists(PendingFile) ? JsonSerializer.Deserialize(File.ReadAllBytes(PendingFile), AgentJson.Default.ReleaseManifest) : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
