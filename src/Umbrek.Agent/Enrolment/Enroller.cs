using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Links;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Enrolment;

/// <summary>Enrolment failed in a way that the person at the host can act on.</summary>
/// <param name="message">What happened and what to do.</param>
/// <param name="passing">True when it may work a little later without anybody doing anything.</param>
public sealed class EnrolmentException(string message, bool passing = false) : Exception(message)
{
    public bool Passing { get; } = passing;
}

/// <summary>An enrolment that was begun: on disk before the service hears of it.</summary>
/// <param name="AccessKey">A key made for the vault, until the service has it.</param>
public sealed record Enrolling(string Token, byte[] PrivateKey, string? AccessKey);

/// <summary>How the host gets its access key.</summary>
/// <param name="Chosen">With <see cref="AccessKeyRule.AskAtInstall"/>: what was chosen.</param>
public sealed record AccessKeyChoice(AccessKeyRule Rule, string? Chosen = null)
{
    public static AccessKeyChoice None { get; } = new(AccessKeyRule.None);
}

/// <summary>Makes the host's key, presents the token, and stores who we are.</summary>
public sealed class Enroller(StateDirectory state, IHostPlatform platform)
{
    /// <exception cref="EnrolmentException">With a sentence that says what to do.</exception>
    public async Task<(AgentIdentity Identity, EnrolmentState State)> EnrolAsync(Uri service, string tokenText, string? label, AccessKeyChoice accessKey, CancellationToken cancel)
    {
        var token = ReadToken(tokenText);
        CheckAddress(service);
        if (AgentIdentity.Load(state) is { } before)
        {
            throw new EnrolmentException($"This host is enrolled already, as {before.Label} ({before.GroupPath}) with {before.Service}. To enrol it anew remove {state.IdentityFile} first.");
        }
        state.Create();
        var begun = LoadBegun(tokenText.Trim());
        if (begun is null)
        {
            using var fresh = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            begun = new Enrolling(tokenText.Trim(), fresh.ExportPkcs8PrivateKey(), accessKey.Rule == AccessKeyRule.Generate ? AccessKey.Generate() : null);
            StateDirectory.WriteWhole(state.EnrollingFile, begun, AgentJson.Default.Enrolling);
        }
        var result = await PresentAsync(service, token, begun, label, cancel).ConfigureAwait(false);
        if ((begun.AccessKey ?? accessKey.Chosen) is { } secret)
        {
            new HostKeys(state, platform.BootId, TimeProvider.System).Set(KeptKey.Of(secret, token.ServiceKeySha256));
        }
        HostLimit.Narrow(state.LimitFile, result.Identity.Allowed);
        result.Identity.Save(state);
        File.Delete(state.EnrollingFile);
        return result;
    }

    /// <summary>Enrols, and while the service can't be reached tries again with growing waits.</summary>
    /// <param name="patience">How long it tries.</param>
    /// <param name="say">Told why it waits, whenever the reason changes.</param>
    /// <exception cref="EnrolmentException">As above, or the last reason when patience ended.</exception>
    public async Task<(AgentIdentity Identity, EnrolmentState State)> EnrolPatientlyAsync(
        Uri service, string tokenText, string? label, AccessKeyChoice accessKey, TimeSpan patience, TimeProvider time, Action<string> say, CancellationToken cancel)
    {
        var began = time.GetTimestamp();
        string? said = null;
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                return await EnrolAsync(service, tokenText, label, accessKey, cancel).ConfigureAwait(false);
            }
            catch (EnrolmentException e) when (e.Passing && time.GetElapsedTime(began) < patience)
            {
                if (said != e.Message)
                {
                    said = e.Message;
                    say($"{e.Message} Trying again for up to {Core.Text.Units.Span(patience - time.GetElapsedTime(began))}; Ctrl-C gives up.");
                }
                await Task.Delay(Backoff.Delay(Math.Min(attempt, 4), Random.Shared.NextDouble()), time, cancel).ConfigureAwait(false);
            }
        }
    }

    /// <summary>This machine carries another one's identity, copied with its disk: it takes one of its own, in the same group.</summary>
    public async Task<AgentIdentity> SplitAsync(AgentIdentity copied, string splitToken, CancellationToken cancel)
    {
        using var fresh = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var (identity, _) = await PresentAsync(copied.Service, ReadToken(splitToken), new Enrolling(splitToken, fresh.ExportPkcs8PrivateKey(), null), null, cancel).ConfigureAwait(false);
        identity.Save(state);
        return identity;
    }

    public static EnrolmentTokenText ReadToken(string text) => EnrolmentTokenText.Parse(text)
        ?? throw new EnrolmentException("This is no enrolment token: it should be two runs of letters, digits, '-' and '_' with a full stop between. Copy it again, whole.");

    public static void CheckAddress(Uri service)
    {
        if (service.Scheme == Uri.UriSchemeHttp && !service.IsLoopback)
        {
            throw new EnrolmentException($"{service} is not encrypted; plain http is for this machine itself only. Use https.");
        }
    }

    private async Task<(AgentIdentity Identity, EnrolmentState State)> PresentAsync(Uri service, EnrolmentTokenText token, Enrolling begun, string? label, CancellationToken cancel)
    {
        var pin = new ServicePin(token.ServiceKeySha256);
        using var key = ECDsa.Create();
        key.ImportPkcs8PrivateKey(begun.PrivateKey, out _);
        var request = new EnrolmentRequest(
            token.ToString(), platform.SystemName, platform.MachineId, key.ExportSubjectPublicKeyInfo(),
            LinkProof.SignEnrolment(key, pin.Sha256, token.Secret), platform.AgentVersion, label, platform.HardwareId, begun.AccessKey);
        using var api = new ApiClient(service, service.Scheme == Uri.UriSchemeHttp ? null : pin);
        try
        {
            var answer = await api.PostAsync("enrolments", request, LinkJson.Default.EnrolmentRequest, LinkJson.Default.EnrolmentAnswer, cancel).ConfigureAwait(false);
            return (new AgentIdentity(service, pin.Sha256, answer.HostId, begun.PrivateKey, answer.Label, answer.GroupPath, answer.Policy, answer.ReleaseKey), answer.State);
        }
        catch (ApiException e)
        {
            throw new EnrolmentException(e.Message, passing: e.Problem.Status is 429 or >= 500);
        }
        catch (Wire.Api.UnreachableException e)
        {
            // Another key than the token's is no passing trouble: somebody else answers there.
            throw new EnrolmentException(e.Message, passing: pin.Seen is null || pin.Seen == pin.ToString());
        }
    }

    private Enrolling? LoadBegun(string token)
    {
        try
        {
            return File.Exists(state.EnrollingFile)
                && JsonSerializer.Deserialize(File.ReadAllBytes(state.EnrollingFile), AgentJson.Default.Enrolling) is { } begun && begun.Token == token
                ? begun
                : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
