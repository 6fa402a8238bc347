using Microsoft.AspNetCore.Identity;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Signs clients in that a technician has let in from his browser.</summary>
public sealed class PairingService(Pairings pairings, SignInService signIn, UserManager<Technician> technicians, AuditLog audit)
{
    public PairingBegun Begin(NewPairing wish, HttpContext http) =>
        pairings.Begin(string.IsNullOrWhiteSpace(wish.Device) ? "client" : Names.Clean(wish.Device, "device", out var problem) ?? throw ProblemException.Invalid(problem), wish.DeviceKey, http.Address());

    public PairingInfo Get(string code) => pairings.Waiting(code).Info;

    public async Task DecideAsync(string code, bool allowed, Asker by, CancellationToken cancel)
    {
        var found = pairings.Decide(code, allowed ? PairingState.Allowed : PairingState.Refused, by.Id);
        await audit.AddAsync(by, allowed ? "client.allow" : "client.refuse", found.Info.Device, cancel, ("code", found.Info.Code), ("address", found.Info.Address)).ConfigureAwait(false);
    }

    /// <summary>What the client hears: whether it still waits, was refused, or is signed in.</summary>
    public async Task<PairingAnswer> ClaimAsync(PairingClaim claim, HttpContext http, CancellationToken cancel)
    {
        var found = pairings.Claim(claim.Secret ?? "");
        if (found.State != PairingState.Allowed || await technicians.FindByIdAsync($"{found.TechnicianId}").ConfigureAwait(false) is not { } technician)
        {
            return new PairingAnswer(found.State == PairingState.Waiting ? PairingState.Waiting : PairingState.Refused);
        }
        var request = new SignInRequest(technician.UserName ?? "", "", SignInUse.Token, found.Info.Device, DeviceKey: found.DeviceKey);
        return new PairingAnswer(PairingState.Allowed, await signIn.OpenAsync(technician, request, http, $"the browser, with code {found.Info.Code}", cancel).ConfigureAwait(false));
    }
}
