using System.Security.Cryptography;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Tests.Enrolment;

public sealed class EnrolmentTests
{
    [Fact]
    public async Task A_host_files_itself_under_the_tokens_group()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = await service.HostAsync("quay-ticket-01");
        host.GroupPath.ShouldBe(TestService.Group);
        host.Presence.State.ShouldBe(Umbrek.Core.Estate.PresenceState.Expected);
    }

    [Fact]
    public async Task Tokens_that_are_unknown_revoked_expired_or_used_up_let_nobody_in_and_say_so()
    {
        var time = new Microsoft.Extensions.Time.Testing.FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        var once = await service.NewTokenAsync(uses: 1);
        await service.EnrolAsync("quay-ticket-01", once);
        await Refused(service, once, "as often as it may be");

        var revoked = await service.NewTokenAsync();
        var info = (await service.Api.GetAsync("installers", WireJson.Default.PageInstallerInfo, default)).Items[0];
        await service.Api.ActAsync(HttpMethod.Post, $"installers/{info.Id}/revoke", default);
        await Refused(service, revoked, "revoked");

        var real = EnrolmentTokenText.Parse(once)!;
        await Refused(service, EnrolmentTokenText.Create(real.ServiceKeySha256).ToString(), "does not know");
        await Refused(service, "no token at all", "no enrolment token");

        var brief = await service.NewTokenAsync(life: 60);
        time.Advance(TimeSpan.FromSeconds(61));
        await Refused(service, brief, "expired");
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(1);
    }

    [Fact]
    public async Task The_last_use_of_a_token_goes_to_one_host_only()
    {
        await using var service = await TestService.StartAsync();
        var token = await service.NewTokenAsync(uses: 3);
        var outcomes = await Task.WhenAll(Enumerable.Range(1, 10).Select(async i =>
        {
            try
            {
                await service.EnrolAsync($"quay-ticket-{i:00}", token);
                return true;
            }
            catch (EnrolmentException)
            {
                return false;
            }
        }));
        outcomes.Count(o => o).ShouldBe(3);
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(3);
    }

    [Fact]
    public async Task An_enrolment_whose_answer_was_lost_is_repeated_and_costs_one_use()
    {
        await using var service = await TestService.StartAsync();
        var text = await service.NewTokenAsync(uses: 2);
        var token = EnrolmentTokenText.Parse(text)!;
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new EnrolmentRequest(text, "plover-log-01", null, key.ExportSubjectPublicKeyInfo(), LinkProof.SignEnrolment(key, token.ServiceKeySha256, token.Secret), "0.1.0");
        using var api = new ApiClient(service.Address, null);
        var first = await api.PostAsync("enrolments", request, WireJson.Default.EnrolmentRequest, WireJson.Default.EnrolmentAnswer, default);
        var again = await api.PostAsync("enrolments", request, WireJson.Default.EnrolmentRequest, WireJson.Default.EnrolmentAnswer, default);
        again.HostId.ShouldBe(first.HostId);
        (await service.Api.GetAsync("installers", WireJson.Default.PageInstallerInfo, default)).Items[0].Uses.ShouldBe(1);

        var other = EnrolmentTokenText.Parse(await service.NewTokenAsync())!;
        var stolen = request with { Token = other.ToString(), Proof = LinkProof.SignEnrolment(key, other.ServiceKeySha256, other.Secret) };
        var e = await Should.ThrowAsync<ApiException>(() => api.PostAsync("enrolments", stolen, WireJson.Default.EnrolmentRequest, WireJson.Default.EnrolmentAnswer, default));
        e.Problem.Word.ShouldBe(ProblemTypes.AlreadyEnrolled);
    }

    [Fact]
    public async Task A_key_that_is_not_proven_is_refused()
    {
        await using var service = await TestService.StartAsync();
        var text = await service.NewTokenAsync();
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new EnrolmentRequest(text, "plover-log-01", null, key.ExportSubjectPublicKeyInfo(), new byte[64], "0.1.0");
        using var api = new ApiClient(service.Address, null);
        var e = await Should.ThrowAsync<ApiException>(() => api.PostAsync("enrolments", request, WireJson.Default.EnrolmentRequest, WireJson.Default.EnrolmentAnswer, default));
        e.Message.ShouldContain("could not prove");
    }

    private static async Task Refused(TestService service, string token, string word)
    {
        var e = await Should.ThrowAsync<EnrolmentException>(() => service.EnrolAsync($"refused-{Guid.NewGuid():N}", token));
        e.Message.ShouldContain(word);
    }
}
