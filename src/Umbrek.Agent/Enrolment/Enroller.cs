using System.Security.Cryptography;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Links;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Enrolment;

/// <summary>Enrolment failed in a way that the person at the host can act on.</summary>
public sealed class EnrolmentException(string message) : Exception(message);

/// <summary>Makes the host's key, presents the token, and stores who we are.</summary>
public sealed class Enroller(StateDirectory state, IHostPlatform platform)
{
    /// <exception cref="EnrolmentException">With a sentence that says what to do.</exception>
    public async Task<AgentIdentity> EnrolAsync(Uri service, string tokenText, string? label, CancellationToken cancel)
    {
        var token = EnrolmentTokenText.Parse(tokenText)
            ?? throw new EnrolmentException("This is no enrolment token: it should be two runs of letters, digits, '-' and '_' with a full stop between. Copy it again, whole.");
        if (service.Scheme == Uri.UriSchemeHttp && !service.IsLoopback)
        {
            throw new EnrolmentException($"{service} is not encrypted; plain http is for this machine itself only. Use https.");
        }
        if (AgentIdentity.Load(state) is { } before)
        {
            throw new EnrolmentException($"This host is enrolled already, as {before.Label} ({before.GroupPath}) with {before.Service}. To enrol it anew remove {state.IdentityFile} first.");
        }
        state.Create();

        var pin = new ServicePin(token.ServiceKeySha256);
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new EnrolmentRequest(
            tokenText.Trim(), platform.SystemName, platform.MachineId, key.ExportSubjectPublicKeyInfo(),
            LinkProof.SignEnrolment(key, pin.Sha256, token.Secret), AgentVersion.Text, label);
        using var api = new ApiClient(service, service.Scheme == Uri.UriSchemeHttp ? null : pin);
        try
        {
            var answer = await api.PostAsync("enrolments", request, WireJson.Default.EnrolmentRequest, WireJson.Default.EnrolmentAnswer, cancel).ConfigureAwait(false);
            var identity = new AgentIdentity(service, pin.Sha256, answer.HostId, key.ExportPkcs8PrivateKey(), answer.Label, answer.GroupPath);
            identity.Save(state);
            return identity;
        }
        catch (ApiException e)
        {
            throw new EnrolmentException(e.Message);
        }
        catch (Wire.Api.UnreachableException e)
        {
            throw new EnrolmentException(e.Message);
        }
    }
}
