using System.Net;
using System.Text.Json;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Tests.Access;

public sealed class AccessTests
{
    [Fact]
    public async Task The_first_technician_is_made_once_and_only_with_the_code()
    {
        await using var service = await TestService.StartAsync();
        var again = await service.SendAsync(HttpMethod.Post, "/api/v1/set-up", """{"code":"AAAA-AAAA-AAAA","name":"x","password":"tide-lantern-orchard"}""", signedIn: false);
        again.Status.ShouldBe(HttpStatusCode.Conflict);
    }

    [Fact]
    public async Task A_wrong_password_and_an_unknown_name_get_the_same_answer()
    {
        await using var service = await TestService.StartAsync();
        var wrong = await SignInAsync(service, TestService.Name, "not the password");
        var unknown = await SignInAsync(service, "Nobody At All", "not the password");
        wrong.Status.ShouldBe(HttpStatusCode.Unauthorized);
        unknown.Body.ShouldBe(wrong.Body);
    }

    [Fact]
    public async Task Five_wrong_passwords_lock_the_account_even_for_the_right_one()
    {
        await using var service = await TestService.StartAsync();
        for (var i = 0; i < 5; i++)
        {
            await SignInAsync(service, TestService.Name, "not the password");
        }
        (await SignInAsync(service, TestService.Name, TestService.Password)).Status.ShouldBe(HttpStatusCode.TooManyRequests);
    }

    [Fact]
    public async Task Too_many_failures_from_one_address_are_not_heard_any_more()
    {
        await using var service = await TestService.StartAsync();
        for (var i = 0; i < Umbrek.Service.Hosting.FailureLimiter.Most; i++)
        {
            await SignInAsync(service, $"Nobody {i}", "not the password");
        }
        (await SignInAsync(service, TestService.Name, TestService.Password)).Status.ShouldBe(HttpStatusCode.TooManyRequests);
    }

    [Fact]
    public async Task Weak_passwords_are_refused_with_a_reason()
    {
        await using var service = await TestService.StartAsync();
        var e = await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("technicians", new NewTechnician("Priya Lund", "short"), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, default));
        e.Message.ShouldContain("12 characters");
    }

    [Fact]
    public async Task Signing_out_ends_the_token_at_the_service()
    {
        await using var service = await TestService.StartAsync();
        await service.Api.ActAsync(HttpMethod.Post, "sign-out", default);
        (await service.SendAsync(HttpMethod.Get, "/api/v1/me")).Status.ShouldBe(HttpStatusCode.Unauthorized);
    }

    [Fact]
    public async Task The_cookie_is_kept_from_scripts_and_other_sites()
    {
        await using var service = await TestService.StartAsync();
        var answer = await SignInAsync(service, TestService.Name, TestService.Password);
        var cookie = answer.Response.Headers.GetValues("Set-Cookie").Single(c => c.StartsWith("umbrek=", StringComparison.Ordinal));
        cookie.ShouldContain("httponly", Case.Insensitive);
        cookie.ShouldContain("samesite=strict", Case.Insensitive);
        JsonDocument.Parse(answer.Body).RootElement.TryGetProperty("token", out _).ShouldBeFalse();
        var me = await service.SendAsync(HttpMethod.Get, "/api/v1/me", signedIn: false, adjust: r => r.Headers.Add("Cookie", cookie.Split(';')[0]));
        me.Body.ShouldContain(TestService.Name);
    }

    [Fact]
    public async Task A_token_of_rubbish_is_nobody()
    {
        await using var service = await TestService.StartAsync();
        foreach (var token in new[] { "x", "!!!", new string('A', 43) })
        {
            (await service.SendAsync(HttpMethod.Get, "/api/v1/me", signedIn: false, adjust: r => r.Headers.TryAddWithoutValidation("Authorization", $"Bearer {token}"))).Status.ShouldBe(HttpStatusCode.Unauthorized);
        }
    }

    private static Task<(HttpStatusCode Status, string Body, HttpResponseMessage Response)> SignInAsync(TestService service, string name, string password) =>
        service.SendAsync(HttpMethod.Post, "/api/v1/sign-in", JsonSerializer.Serialize(new { name, password, use = "cookie" }), signedIn: false);
}
