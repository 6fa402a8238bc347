using System.Net;
using System.Net.Http.Json;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Tests.Access;

/// <summary>Devices that are known again, and signing in with a provider.</summary>
public sealed class SignInWaysTests
{
    [Fact]
    public async Task A_new_device_is_shown_to_its_owner_until_he_says_elsewhere_that_it_is_his()
    {
        await using var service = await TestService.StartAsync();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).NewDevices.ShouldBeEmpty();
        using var second = await SignInAsync(service, "Tomasz Vail", "tablet", "the tablet's key");
        var shown = (await tomasz.GetAsync("me", WireJson.Default.Me, default)).NewDevices.Single();
        (shown.Device, shown.IsNew, shown.Here).ShouldBe(("tablet", true, false));
        // On itself it is not announced, and can't say of itself that it is known.
        (await second.GetAsync("me", WireJson.Default.Me, default)).NewDevices.ShouldBeEmpty();
        (await Should.ThrowAsync<ApiException>(() => second.ActAsync(HttpMethod.Post, $"me/devices/{shown.Id}/confirm", default))).Message.ShouldContain("on another device");
        // Another's devices are none of one's own.
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Post, $"me/devices/{shown.Id}/confirm", default))).Problem.Word.ShouldBe(ProblemTypes.NotFound);

        await tomasz.ActAsync(HttpMethod.Post, $"me/devices/{shown.Id}/confirm", default);
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).NewDevices.ShouldBeEmpty();
        // Known by its key, it is not new a second time; one without a key is.
        using var again = await SignInAsync(service, "Tomasz Vail", "tablet", "the tablet's key");
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).NewDevices.ShouldBeEmpty();
        (await service.Api.GetAsync("audit?action=sign-in&actor=Tomasz", WireJson.Default.PageAuditInfo, default)).Items.Count(l => l.Detail.Contains("new-device", StringComparison.Ordinal)).ShouldBe(1);

        // One that is not his is ended with all that is signed in on it.
        using var stranger = await SignInAsync(service, "Tomasz Vail", "somebody's laptop", "another key");
        var strange = (await tomasz.GetAsync("me", WireJson.Default.Me, default)).NewDevices.Single();
        await tomasz.ActAsync(HttpMethod.Delete, $"me/devices/{strange.Id}", default);
        (await Should.ThrowAsync<ApiException>(() => stranger.GetAsync("me", WireJson.Default.Me, default))).Problem.Word.ShouldBe(ProblemTypes.NotSignedIn);
        (await again.GetAsync("me", WireJson.Default.Me, default)).Name.ShouldBe("Tomasz Vail");
    }

    [Fact]
    public async Task A_remembered_device_is_not_asked_for_the_code_a_new_one_is_and_a_changed_password_asks_all()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var offer = await tomasz.PostAsync("me/second-factor", new PasswordProof(TestService.Password), WireJson.Default.PasswordProof, WireJson.Default.SecondFactorOffer, default);
        var secret = SignInTests.FromBase32(offer.Secret);
        string Code()
        {
            time.Advance(Totp.Step);
            return Totp.Code(secret, Totp.StepAt(time.GetUtcNow()));
        }
        await tomasz.PostAsync("me/second-factor/confirm", new SecondFactorProof(Code()), WireJson.Default.SecondFactorProof, WireJson.Default.RecoveryCodes, default);

        (await Should.ThrowAsync<ApiException>(() => SignInAsync(service, "Tomasz Vail", "desk", "desk key"))).Problem.Word.ShouldBe(ProblemTypes.SecondFactorAsked);
        (await SignInAsync(service, "Tomasz Vail", "desk", "desk key", Code(), remember: true)).Dispose();
        (await SignInAsync(service, "Tomasz Vail", "desk", "desk key")).Dispose();
        // Another device of his is asked, and one that shows the key of a device of somebody else's too.
        (await Should.ThrowAsync<ApiException>(() => SignInAsync(service, "Tomasz Vail", "tablet", "tablet key"))).Problem.Word.ShouldBe(ProblemTypes.SecondFactorAsked);
        (await service.SignInAsync(TestService.Name)).Dispose();
        // The clock alone: every timer of the service in between would take many seconds, and none matters here.
        time.AdjustTime(time.GetUtcNow() + Devices.Remembered);
        (await Should.ThrowAsync<ApiException>(() => SignInAsync(service, "Tomasz Vail", "desk", "desk key"))).Problem.Word.ShouldBe(ProblemTypes.SecondFactorAsked);

        using (var desk = await SignInAsync(service, "Tomasz Vail", "desk", "desk key", Code(), remember: true))
        {
            await desk.PostAsync("me/password", new PasswordChange(TestService.Password, "another-lantern-orchard"), WireJson.Default.PasswordChange, WireJson.Default.Int32, default);
        }
        (await Should.ThrowAsync<ApiException>(() => SignInAsync(service, "Tomasz Vail", "desk", "desk key", password: "another-lantern-orchard"))).Problem.Word.ShouldBe(ProblemTypes.SecondFactorAsked);
    }

    [Fact]
    public async Task Somebody_known_to_the_provider_signs_in_once_he_has_linked_himself_and_nobody_else_does()
    {
        await using var provider = new StandInProvider();
        var secret = Path.GetTempFileName();
        await File.WriteAllTextAsync(secret, StandInProvider.Secret);
        await using var service = await TestService.StartAsync(adjust: o => o with { SingleSignOn = new SingleSignOnProvider("Halyard & Wick", new Uri(provider.Issuer), StandInProvider.ClientId, secret) });
        File.Delete(secret);
        (await service.Api.GetAsync("sign-in/ways", WireJson.Default.SignInWays, default)).SingleSignOn.ShouldBe("Halyard & Wick");

        // Not linked: a name that the provider tells opens nobody's account, whatever it is.
        provider.Who = ("1001", TestService.Name);
        var stranger = new Visitor(service.Address);
        (await stranger.GoAsync("sso/begin")).ShouldBe("/?sso=unknown");
        (await stranger.MeAsync()).ShouldBeNull();
        // Linking takes somebody who is signed in.
        (await stranger.StatusAsync("sso/begin?link=yes")).ShouldBe(HttpStatusCode.Unauthorized);

        var ines = new Visitor(service.Address);
        await ines.SignInAsync();
        (await ines.GoAsync(await ines.LinkAsync())).ShouldBe("/account?sso=linked");
        (await service.Api.GetAsync("me/linked-logins", WireJson.Default.PageLinkedLogin, default)).Items.Single().Name.ShouldBe(TestService.Name);
        (await stranger.GoAsync("sso/begin")).ShouldBe("/");
        // It leads back to where one was, and nowhere else.
        (await stranger.GoAsync("sso/begin?to=%2Faccount%2Fclient%3Fcode%3DBCDF-GHJK")).ShouldBe("/account/client?code=BCDF-GHJK");
        foreach (var elsewhere in new[] { "%2F%2Forrin.example", "%2F%5Corrin.example", "https%3A%2F%2Forrin.example", "%2F%0Aorrin", "%2F%C3%BCber", "%2F" + new string('a', 2000) })
        {
            (await stranger.GoAsync($"sso/begin?to={elsewhere}")).ShouldBe("/");
        }
        (await stranger.MeAsync()).ShouldBe(TestService.Name);

        // One person there is one technician here.
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var other = new Visitor(service.Address);
        await other.SignInAsync("Tomasz Vail");
        (await other.GoAsync(await other.LinkAsync())).ShouldBe("/account?sso=linked-elsewhere");

        // A token that the provider did not sign, and a way back that nobody began, open nothing.
        provider.Lies = true;
        var liar = new Visitor(service.Address);
        (await liar.GoAsync("sso/begin")).ShouldBe("/?sso=failed");
        (await liar.GoAsync("sso/return?code=made-up&state=made-up")).ShouldBe("/?sso=failed");
        (await liar.MeAsync()).ShouldBeNull();
        provider.Lies = false;

        await service.Api.ActAsync(HttpMethod.Delete, "me/linked-logins", default);
        (await new Visitor(service.Address).GoAsync("sso/begin")).ShouldBe("/?sso=unknown");
        (await service.Api.GetAsync("audit?action=single-sign-on", WireJson.Default.PageAuditInfo, default)).Items.Select(l => l.Action).ShouldBe(["single-sign-on.unlink", "single-sign-on.link"]);
    }

    [Fact]
    public async Task Nobody_is_linked_by_a_token_or_at_an_open_screen_or_with_what_another_has_begun()
    {
        await using var provider = new StandInProvider();
        var secret = Path.GetTempFileName();
        await File.WriteAllTextAsync(secret, StandInProvider.Secret);
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time, adjust: o => o with { SingleSignOn = new SingleSignOnProvider("Halyard & Wick", new Uri(provider.Issuer), StandInProvider.ClientId, secret) });
        File.Delete(secret);
        // The thief has an account at the provider, and the technician's token that may only see.
        provider.Who = ("6666", "Orrin Pike");
        var made = await service.Api.PostAsync("me/tokens", new NewToken("report", [Permission.See], time.GetUtcNow().AddDays(1), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        using var thief = new ApiClient(service.Address, null, made.Token);
        (await Should.ThrowAsync<ApiException>(() => BeginAsync(thief, TestService.Password))).Message.ShouldContain("A token for a script does nothing to the account of its maker");
        var (_, _, answer) = await service.SendAsync(HttpMethod.Get, "sso/begin?link=yes", adjust: r => r.Headers.Authorization = new("Bearer", made.Token));
        answer.Headers.Location!.OriginalString.ShouldBe("/account?sso=link-over");
        // Nor with a ticket that its maker was given.
        var ticket = (await BeginAsync(service.Api, TestService.Password)).Path;
        (_, _, answer) = await service.SendAsync(HttpMethod.Get, ticket, adjust: r => r.Headers.Authorization = new("Bearer", made.Token));
        answer.Headers.Location!.OriginalString.ShouldBe("/account?sso=link-over");

        // At an open screen it takes the password, and goes on nowhere else.
        var ines = new Visitor(service.Address);
        await ines.SignInAsync();
        (await ines.GoAsync("sso/begin?link=yes")).ShouldBe("/account?sso=link-over");
        (await Should.ThrowAsync<ApiException>(() => BeginAsync(service.Api, "tide-lantern"))).Problem.Status.ShouldBe(403);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var his = new Visitor(service.Address);
        await his.SignInAsync("Tomasz Vail");
        (await ines.GoAsync(await his.LinkAsync())).ShouldBe("/account?sso=link-over");
        var late = await ines.LinkAsync();
        time.Advance(TimeSpan.FromMinutes(6));
        (await ines.GoAsync(late)).ShouldBe("/account?sso=link-over");

        (await service.Api.GetAsync("me/linked-logins", WireJson.Default.PageLinkedLogin, default)).Items.ShouldBeEmpty();
        (await new Visitor(service.Address).GoAsync("sso/begin")).ShouldBe("/?sso=unknown");
        // What is begun is good once.
        var once = await ines.LinkAsync();
        (await ines.GoAsync(once)).ShouldBe("/account?sso=linked");
        (await ines.GoAsync(once)).ShouldBe("/account?sso=link-over");
    }

    private static Task<LinkBeginning> BeginAsync(ApiClient who, string password) =>
        who.PostAsync("me/linked-logins", new PasswordProof(password), WireJson.Default.PasswordProof, WireJson.Default.LinkBeginning, default);

    [Fact]
    public async Task Without_a_provider_there_is_no_such_way_and_one_that_is_down_is_said()
    {
        await using (var service = await TestService.StartAsync())
        {
            (await service.Api.GetAsync("sign-in/ways", WireJson.Default.SignInWays, default)).SingleSignOn.ShouldBeNull();
        }
        var secret = Path.GetTempFileName();
        await using (var service = await TestService.StartAsync(adjust: o => o with { SingleSignOn = new SingleSignOnProvider("away", new Uri("http://127.0.0.1:9"), StandInProvider.ClientId, secret) }))
        {
            (await new Visitor(service.Address).GoAsync("sso/begin")).ShouldBe("/?sso=unreachable");
        }
        File.Delete(secret);
    }

    [Fact]
    public async Task A_passkey_that_was_never_made_here_opens_nothing_and_a_ceremony_is_good_once()
    {
        await using var service = await TestService.StartAsync();
        using var anonymous = new ApiClient(service.Address, null);
        var begun = await anonymous.ActAsync("sign-in/passkey/begin", WireJson.Default.PasskeyCeremony, default);
        begun.Options.GetProperty("userVerification").GetString().ShouldBe("required");
        begun.Options.GetProperty("challenge").GetString()!.Length.ShouldBeGreaterThan(20);
        var proof = new PasskeyProof(begun.Ceremony, System.Text.Json.JsonDocument.Parse("""{"id":"AAAA","rawId":"AAAA","type":"public-key","response":{"clientDataJSON":"AAAA","authenticatorData":"AAAA","signature":"AAAA","userHandle":"AAAA"},"clientExtensionResults":{}}""").RootElement);
        Task TryAsync() => anonymous.PostAsync("sign-in/passkey", proof, WireJson.Default.PasskeyProof, WireJson.Default.SignInAnswer, default);
        (await Should.ThrowAsync<ApiException>(TryAsync)).Problem.Word.ShouldBe(ProblemTypes.WrongCredentials);
        (await Should.ThrowAsync<ApiException>(TryAsync)).Message.ShouldContain("was done already");
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("me/passkeys/begin", new PasswordProof("not the password"), WireJson.Default.PasswordProof, WireJson.Default.PasskeyCeremony, default))).Message.ShouldContain("password is wrong");
        (await service.Api.GetAsync("me/passkeys", WireJson.Default.PagePasskeyInfo, default)).Total.ShouldBe(0);
        (await service.Api.GetAsync("audit?action=sign-in.refuse", WireJson.Default.PageAuditInfo, default)).Items.Single().Detail.ShouldContain("passkey");
    }

    private static async Task<ApiClient> SignInAsync(TestService service, string name, string device, string key, string? code = null, bool remember = false, string password = TestService.Password)
    {
        using var anonymous = new ApiClient(service.Address, null);
        var answer = await anonymous.PostAsync("sign-in", new SignInRequest(name, password, SignInUse.Token, device, code, key, remember), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
        return new ApiClient(service.Address, null, answer.Token);
    }

    /// <summary>A browser as far as its cookies go.</summary>
    private sealed class Visitor(Uri service)
    {
        private readonly HttpClient http = new(new SocketsHttpHandler { CookieContainer = new CookieContainer(), AllowAutoRedirect = false });

        public async Task SignInAsync(string name = TestService.Name) =>
            (await http.PostAsJsonAsync(new Uri(service, "api/v1/sign-in"), new SignInRequest(name, TestService.Password, SignInUse.Cookie), WireJson.Default.SignInRequest)).StatusCode.ShouldBe(HttpStatusCode.OK);

        public async Task<HttpStatusCode> StatusAsync(string path) => (await http.GetAsync(new Uri(service, path))).StatusCode;

        /// <summary>Follows where it is sent, to the provider and back, until it stands before a page of the console.</summary>
        public async Task<string> GoAsync(string path)
        {
            var at = new Uri(service, path);
            for (var i = 0; i < 6; i++)
            {
                using var answer = await http.GetAsync(at);
                if (answer.Headers.Location is not { } next)
                {
                    return $"{(int)answer.StatusCode} at {at.PathAndQuery}";
                }
                at = new Uri(at, next);
                if (at.Authority == service.Authority && !at.AbsolutePath.StartsWith("/sso/", StringComparison.Ordinal))
                {
                    return at.PathAndQuery;
                }
            }
            return "sent around in circles";
        }

        /// <summary>Proves the password, as the page does that links.</summary>
        public async Task<string> LinkAsync()
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, new Uri(service, "api/v1/me/linked-logins")) { Content = JsonContent.Create(new PasswordProof(TestService.Password), WireJson.Default.PasswordProof) };
            request.Headers.Add("Origin", service.GetLeftPart(UriPartial.Authority));
            using var answer = await http.SendAsync(request);
            answer.StatusCode.ShouldBe(HttpStatusCode.OK, await answer.Content.ReadAsStringAsync());
            return (await answer.Content.ReadFromJsonAsync(WireJson.Default.LinkBeginning))!.Path;
        }

        public async Task<string?> MeAsync()
        {
            using var answer = await http.GetAsync(new Uri(service, "api/v1/me"));
            return answer.IsSuccessStatusCode ? (await answer.Content.ReadFromJsonAsync(WireJson.Default.Me))!.Name : null;
        }
    }
}
