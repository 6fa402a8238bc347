using System.Net;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Tests.Access;

/// <summary>Clients that are let in by their technician's browser.</summary>
public sealed class PairingTests
{
    private static Task<PairingBegun> BeginAsync(ApiClient client, string device = "bench-laptop") =>
        client.PostAsync("sign-in/pairings", new NewPairing(device, "a key of the device"), WireJson.Default.NewPairing, WireJson.Default.PairingBegun, default);

    private static Task<PairingAnswer> ClaimAsync(ApiClient client, string secret) =>
        client.PostAsync("sign-in/pairings/claim", new PairingClaim(secret), WireJson.Default.PairingClaim, WireJson.Default.PairingAnswer, default);

    private static Task DecideAsync(ApiClient who, string code, string what = "allow") => who.ActAsync(HttpMethod.Post, $"sign-in/pairings/{code}/{what}", default);

    [Fact]
    public async Task Whoever_is_signed_in_lets_a_client_in_as_himself_once()
    {
        await using var service = await TestService.StartAsync();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var client = new ApiClient(service.Address, null);
        var begun = await BeginAsync(client);
        begun.Code.ShouldMatch("^[BCDFGHJKLMNPQRSTVWXZ]{4}-[BCDFGHJKLMNPQRSTVWXZ]{4}$");
        begun.Page.ShouldBe($"/account/client?code={begun.Code}");
        (await ClaimAsync(client, begun.Secret)).ShouldBe(new PairingAnswer(PairingState.Waiting));
        var shown = await tomasz.GetAsync($"sign-in/pairings/{begun.Code.Replace("-", " ").ToLowerInvariant()}", WireJson.Default.PairingInfo, default);
        (shown.Device, shown.Address, shown.ExpiresAt - shown.AskedAt).ShouldBe(("bench-laptop", "127.0.0.1", Pairings.Life));

        await DecideAsync(tomasz, begun.Code);
        // It is decided: nobody else is asked.
        (await Should.ThrowAsync<ApiException>(() => DecideAsync(service.Api, begun.Code))).Problem.Status.ShouldBe(404);
        var answer = await ClaimAsync(client, begun.Secret);
        (answer.State, answer.SignIn!.Technician.Name).ShouldBe((PairingState.Allowed, "Tomasz Vail"));
        (await Should.ThrowAsync<ApiException>(() => ClaimAsync(client, begun.Secret))).Problem.Status.ShouldBe(404);
        using var signedIn = new ApiClient(service.Address, null, answer.SignIn.Token);
        (await signedIn.GetAsync("me", WireJson.Default.Me, default)).Name.ShouldBe("Tomasz Vail");
        (await tomasz.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.ShouldContain(s => s.Device == "bench-laptop");
        var lines = (await service.Api.GetAsync("audit", WireJson.Default.PageAuditInfo, default)).Items;
        lines.ShouldContain(l => l.Action == "client.allow" && l.Target == "bench-laptop" && l.Actor == "Tomasz Vail");
        lines.ShouldContain(l => l.Action == "sign-in" && l.Detail.Contains($"the browser, with code {begun.Code}", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_client_that_is_refused_or_too_late_is_not_signed_in()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        using var client = new ApiClient(service.Address, null);
        var refused = await BeginAsync(client);
        await DecideAsync(service.Api, refused.Code, "refuse");
        (await ClaimAsync(client, refused.Secret)).ShouldBe(new PairingAnswer(PairingState.Refused));
        var late = await BeginAsync(client);
        var lateToo = await BeginAsync(client);
        await DecideAsync(service.Api, lateToo.Code);
        time.Advance(Pairings.Life);
        (await Should.ThrowAsync<ApiException>(() => DecideAsync(service.Api, late.Code))).Message.ShouldContain("Begin again at the client");
        (await Should.ThrowAsync<ApiException>(() => ClaimAsync(client, lateToo.Secret))).Problem.Status.ShouldBe(404);
        // Whoever lets it in and is gone before it comes lets nobody in.
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var orphan = await BeginAsync(client);
        await DecideAsync(tomasz, orphan.Code);
        var id = (await service.Api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, default)).Items.Single(t => t.Name == "Tomasz Vail").Id;
        await service.Api.ActAsync(HttpMethod.Delete, $"technicians/{id}", default);
        (await ClaimAsync(client, orphan.Secret)).ShouldBe(new PairingAnswer(PairingState.Refused));
    }

    [Fact]
    public async Task Nobody_guesses_and_no_script_lets_a_client_in()
    {
        await using var service = await TestService.StartAsync();
        using var client = new ApiClient(service.Address, null);
        var begun = await BeginAsync(client);
        var token = await service.Api.PostAsync("me/tokens", new NewToken("nightly", [Permission.See, Permission.Administer], DateTimeOffset.UtcNow.AddDays(1), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        using var script = new ApiClient(service.Address, null, token.Token);
        (await Should.ThrowAsync<ApiException>(() => DecideAsync(script, begun.Code))).Message.ShouldContain("A token for a script does nothing to the account of its maker");
        (await Should.ThrowAsync<ApiException>(() => DecideAsync(client, begun.Code))).Problem.Status.ShouldBe(401);
        (await Should.ThrowAsync<ApiException>(() => ClaimAsync(client, "not Base64url!"))).Problem.Status.ShouldBe(404);
        (await Should.ThrowAsync<ApiException>(() => BeginAsync(client, "a\u0007b"))).Problem.Status.ShouldBe(400);
        for (var i = 0; i < FailureLimiter.Most - 2; i++)
        {
            (await Should.ThrowAsync<ApiException>(() => service.Api.GetAsync($"sign-in/pairings/BCDF-GHJ{(char)('A' + (i % 26))}", WireJson.Default.PairingInfo, default))).Problem.Status.ShouldBe(404);
        }
        (await Should.ThrowAsync<ApiException>(() => ClaimAsync(client, begun.Secret))).Problem.Status.ShouldBe((int)HttpStatusCode.TooManyRequests);
    }

    [Fact]
    public void One_address_does_not_fill_the_place()
    {
        var pairings = new Pairings(TimeProvider.System);
        for (var i = 0; i < 20; i++)
        {
            pairings.Begin("laptop", null, "198.51.100.7");
        }
        Should.Throw<ProblemException>(() => pairings.Begin("laptop", null, "198.51.100.7")).Message.ShouldContain("Too many clients wait");
        pairings.Begin("laptop", null, "198.51.100.8").Code.Length.ShouldBe(9);
    }
}
