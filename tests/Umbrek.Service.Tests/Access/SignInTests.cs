using System.Net;
using System.Text.Json;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Service.Storage;
using Umbrek.Service.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Tests.Access;

/// <summary>Second factors, sign-ins and tokens on a whole service.</summary>
public sealed class SignInTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public async Task With_a_second_factor_a_password_alone_does_not_open_and_each_code_opens_once()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        var (secret, codes) = await SetUpFactorAsync(service.Api, time);
        codes.Count.ShouldBe(10);
        (await service.Api.GetAsync("me", WireJson.Default.Me, default)).SecondFactor.ShouldBeTrue();

        (await TryAsync(service, TestService.Password)).ShouldBe(ProblemTypes.SecondFactorAsked);
        (await TryAsync(service, "not the password", Code(secret, time))).ShouldBe(ProblemTypes.WrongCredentials);
        // The code that set it up is used; the next one opens, once.
        (await TryAsync(service, TestService.Password, Code(secret, time))).ShouldBe(ProblemTypes.WrongCredentials);
        time.Advance(Totp.Step);
        (await TryAsync(service, TestService.Password, Code(secret, time))).ShouldBeNull();
        (await TryAsync(service, TestService.Password, Code(secret, time))).ShouldBe(ProblemTypes.WrongCredentials);

        (await TryAsync(service, TestService.Password, codes[3].ToUpperInvariant())).ShouldBeNull();
        (await TryAsync(service, TestService.Password, codes[3])).ShouldBe(ProblemTypes.WrongCredentials);
        (await service.Api.GetAsync("me", WireJson.Default.Me, default)).RecoveryCodes.ShouldBe(9);
    }

    [Fact]
    public async Task A_phone_whose_clock_is_an_hour_off_is_told_the_service_s_time()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        var (secret, _) = await SetUpFactorAsync(service.Api, time);
        using var anonymous = new ApiClient(service.Address, null);
        var early = Totp.Code(secret, Totp.StepAt(time.GetUtcNow().AddHours(1)));
        var refused = await Should.ThrowAsync<ApiException>(() => anonymous.PostAsync("sign-in", new SignInRequest(TestService.Name, TestService.Password, SignInUse.Token, null, early), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default));
        refused.Message.ShouldContain("the clock of your device may be wrong: here it is 12:00:00 UTC");
    }

    [Fact]
    public async Task Wrong_codes_lock_the_account_as_wrong_passwords_do_and_each_time_longer()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        await SetUpFactorAsync(service.Api, time);
        for (var i = 0; i < 4; i++)
        {
            (await TryAsync(service, TestService.Password, "000000")).ShouldBe(ProblemTypes.WrongCredentials);
        }
        (await TryAsync(service, TestService.Password, "000000")).ShouldBe(ProblemTypes.TooManyAttempts);
        (await TryAsync(service, TestService.Password)).ShouldBe(ProblemTypes.TooManyAttempts);
        (await LockedForAsync(service)).ShouldBe(TimeSpan.FromMinutes(1));
        time.Advance(TimeSpan.FromMinutes(1));
        for (var i = 0; i < 5; i++)
        {
            await TryAsync(service, "not the password");
        }
        (await LockedForAsync(service)).ShouldBe(TimeSpan.FromMinutes(2));
        var log = (await service.Api.GetAsync("audit?action=sign-in.refuse", WireJson.Default.PageAuditInfo, default)).Items;
        log.Count(l => l.Detail.Contains("wrong code", StringComparison.Ordinal)).ShouldBe(5);
        log.ShouldAllBe(l => !l.Detail.Contains("000000"));
    }

    [Fact]
    public async Task What_is_kept_of_a_second_factor_opens_nothing()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        var (secret, codes) = await SetUpFactorAsync(service.Api, time);
        await using var db = service.Get<IDatabase>().Open();
        var row = await db.Users.AsNoTracking().SingleAsync();
        row.ProtectedFactor.ShouldNotBeNull().ShouldNotContain(Convert.ToBase64String(secret));
        row.ProtectedFactor.ShouldNotContain(Totp.ToBase32(secret));
        codes.ShouldAllBe(c => !row.RecoveryCodes.Contains(c) && !row.RecoveryCodes.Contains(c.Replace("-", "")));
    }

    [Fact]
    public async Task It_takes_the_password_again_and_a_code_to_set_one_up()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        (await Should.ThrowAsync<ApiException>(() => BeginAsync(service.Api, "not the password"))).Message.ShouldContain("your own password again");
        var offer = await BeginAsync(service.Api);
        offer.Uri.ShouldStartWith("otpauth://totp/Umbrek%20at%20127.0.0.1:Ines%20Okafor?secret=" + offer.Secret);
        offer.Picture.ShouldStartWith("M");
        offer.PictureSize.ShouldBeGreaterThan(20);
        (await Should.ThrowAsync<ApiException>(() => ConfirmAsync(service.Api, "123"))).Problem.Word.ShouldBe(ProblemTypes.WrongCredentials);
        (await TryAsync(service, TestService.Password)).ShouldBeNull("it counts only once a code of it was typed");
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("me/recovery-codes", new PasswordProof(TestService.Password), WireJson.Default.PasswordProof, WireJson.Default.RecoveryCodes, default))).Problem.Status.ShouldBe(409);
    }

    [Fact]
    public async Task Where_everybody_needs_one_who_has_none_may_only_set_one_up()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        await service.EnrolAsync("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        (await Should.ThrowAsync<ApiException>(() => RequireAsync(service.Api, true))).Message.ShouldContain("would shut you out");
        await SetUpFactorAsync(service.Api, time);
        await RequireAsync(service.Api, true);

        var me = await tomasz.GetAsync("me", WireJson.Default.Me, default);
        (me.SecondFactorMissing, me.Anywhere.Count).ShouldBe((true, 0));
        (await tomasz.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.ShouldBeEmpty();
        (await Should.ThrowAsync<ApiException>(() => tomasz.GetAsync("installers", WireJson.Default.PageInstallerInfo, default))).Problem.Word.ShouldBe(ProblemTypes.SecondFactorMissing);
        await SetUpFactorAsync(tomasz, time);
        (await tomasz.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Single().Label.ShouldBe("quay-ticket-01");

        // The lead can't take off his own while everybody needs one, nor reset himself.
        var own = await service.Api.GetAsync("me", WireJson.Default.Me, default);
        (await service.SendAsync(HttpMethod.Post, "/api/v1/me/second-factor/remove", $$"""{"password":"{{TestService.Password}}"}""")).Status.ShouldBe(HttpStatusCode.Conflict);
        (await service.SendAsync(HttpMethod.Post, $"/api/v1/technicians/{own.Id}/reset-second-factor")).Status.ShouldBe(HttpStatusCode.Conflict);
        await RequireAsync(service.Api, false);
        (await service.SendAsync(HttpMethod.Post, "/api/v1/me/second-factor/remove", $$"""{"password":"{{TestService.Password}}"}""")).Status.ShouldBe(HttpStatusCode.NoContent);
        (await TryAsync(service, TestService.Password)).ShouldBeNull();
    }

    [Fact]
    public async Task Who_has_lost_his_second_factor_is_let_in_anew_by_a_lead_and_out_everywhere_else()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        await SetUpFactorAsync(tomasz, time);
        var id = (await tomasz.GetAsync("me", WireJson.Default.Me, default)).Id;
        await service.Api.ActAsync(HttpMethod.Post, $"technicians/{id}/reset-second-factor", default);
        (await Should.ThrowAsync<ApiException>(() => tomasz.GetAsync("me", WireJson.Default.Me, default))).Problem.Status.ShouldBe(401);
        using var again = await service.SignInAsync("Tomasz Vail");
        (await again.GetAsync("me", WireJson.Default.Me, default)).SecondFactor.ShouldBeFalse();
    }

    [Fact]
    public async Task Of_many_wrong_tries_at_once_no_more_are_looked_at_than_in_a_row()
    {
        await using var service = await TestService.StartAsync();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var anonymous = new ApiClient(service.Address, null);
        var tries = await Task.WhenAll(Enumerable.Range(0, 13).Select(i => StatusOfAsync(() =>
            anonymous.PostAsync("sign-in", new SignInRequest("Tomasz Vail", $"tide-lantern-{i}", SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default))));
        tries.Count(s => s == 401).ShouldBe(PasswordTries.BeforeLockout - 1);
        tries.Count(s => s == 429).ShouldBe(13 - PasswordTries.BeforeLockout + 1);
        var lines = (await service.Api.GetAsync("audit?action=sign-in.refuse", WireJson.Default.PageAuditInfo, default)).Items;
        lines.Count(l => l.Detail.Contains("wrong password", StringComparison.Ordinal)).ShouldBe(PasswordTries.BeforeLockout);
    }

    [Fact]
    public async Task Wrong_passwords_of_somebody_who_is_signed_in_lock_the_account_too()
    {
        await using var service = await TestService.StartAsync();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        // Whoever sits at an open screen guesses at each door in turn.
        (string Path, Func<string, Task> Try)[] doors =
        [
            ("passkeys/begin", p => tomasz.PostAsync("me/passkeys/begin", new PasswordProof(p), WireJson.Default.PasswordProof, WireJson.Default.PasskeyCeremony, default)),
            ("second-factor", p => tomasz.PostAsync("me/second-factor", new PasswordProof(p), WireJson.Default.PasswordProof, WireJson.Default.SecondFactorOffer, default)),
            ("linked-logins", p => tomasz.PostAsync("me/linked-logins", new PasswordProof(p), WireJson.Default.PasswordProof, WireJson.Default.LinkBeginning, default)),
            ("tokens", p => tomasz.PostAsync("me/tokens", new NewToken("nightly", [Permission.See], DateTimeOffset.UtcNow.AddDays(1), p), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default)),
            ("password", p => tomasz.PostAsync("me/password", new PasswordChange(p, "another-lantern-orchard"), WireJson.Default.PasswordChange, WireJson.Default.Int32, default)),
        ];
        var statuses = new List<int>();
        foreach (var (_, attempt) in doors)
        {
            statuses.Add(await StatusOfAsync(() => attempt("tide-lantern")));
        }
        statuses.ShouldBe([403, 403, 403, 403, 429]);
        (await StatusOfAsync(() => doors[0].Try(TestService.Password))).ShouldBe(429);
        (await StatusOfAsync(() => service.SignInAsync("Tomasz Vail"))).ShouldBe(429);
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).Name.ShouldBe("Tomasz Vail");
    }

    private static async Task<int> StatusOfAsync(Func<Task> attempt)
    {
        try
        {
            await attempt();
            return 200;
        }
        catch (ApiException e)
        {
            return e.Problem.Status ?? 0;
        }
    }

    [Fact]
    public async Task Each_sees_where_he_is_signed_in_and_ends_it_with_all_that_is_open()
    {
        await using var service = await TestService.StartAsync();
        using var other = await service.SignInAsync(TestService.Name);
        var cookie = await CookieAsync(service);
        var all = (await service.Api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items;
        all.Select(s => s.Kind).Order().ShouldBe([SignInKind.Console, SignInKind.Client, SignInKind.Client]);
        all.Single(s => s.Kind == SignInKind.Console).Device.ShouldBe("Firefox on Linux");
        all.Count(s => s.Here).ShouldBe(1);
        all.ShouldAllBe(s => s.Address == "127.0.0.1");

        await using var line = await service.LiveAsync(other);
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var view = line.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        (await view.MoveNextAsync()).ShouldBeTrue();
        var his = (await other.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.Single(s => s.Here);
        await service.Api.ActAsync(HttpMethod.Delete, $"me/sign-ins/{his.Id}", default);
        await Should.ThrowAsync<Exception>(async () => await view.MoveNextAsync().AsTask().WaitAsync(enough.Token));
        enough.IsCancellationRequested.ShouldBeFalse();
        (await Should.ThrowAsync<ApiException>(() => other.GetAsync("me", WireJson.Default.Me, default))).Problem.Status.ShouldBe(401);

        (await MeByCookieAsync(service, cookie)).ShouldBe(HttpStatusCode.OK);
        (await service.SendAsync(HttpMethod.Delete, "/api/v1/me/sign-ins")).Body.ShouldBe("1");
        (await MeByCookieAsync(service, cookie)).ShouldBe(HttpStatusCode.Unauthorized);
        (await service.Api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.Single().Here.ShouldBeTrue();
    }

    [Fact]
    public async Task Nobody_sees_or_ends_the_sign_ins_of_another()
    {
        await using var service = await TestService.StartAsync();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var hers = (await service.Api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.Single();
        (await tomasz.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.ShouldNotContain(s => s.Id == hers.Id);
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"me/sign-ins/{hers.Id}", default))).Problem.Status.ShouldBe(404);
    }

    [Fact]
    public async Task Each_sign_in_gets_a_cookie_of_its_own_and_signing_out_makes_it_worthless()
    {
        await using var service = await TestService.StartAsync();
        var planted = await CookieAsync(service);
        var own = await CookieAsync(service, planted);
        own.ShouldNotBe(planted);
        using (var http = new HttpClient(new SocketsHttpHandler { UseCookies = false }) { BaseAddress = service.Address })
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, "api/v1/sign-out");
            request.Headers.Add("Cookie", own);
            request.Headers.Add("Origin", $"{service.Address}".TrimEnd('/'));
            (await http.SendAsync(request)).StatusCode.ShouldBe(HttpStatusCode.NoContent);
        }
        (await MeByCookieAsync(service, own)).ShouldBe(HttpStatusCode.Unauthorized);
    }

    [Fact]
    public async Task A_cookie_of_another_service_opens_nothing()
    {
        await using var service = await TestService.StartAsync();
        await using var other = await TestService.StartAsync();
        (await MeByCookieAsync(service, await CookieAsync(other))).ShouldBe(HttpStatusCode.Unauthorized);
    }

    [Fact]
    public async Task A_token_is_good_for_what_it_names_until_it_ends_and_makes_no_better_one()
    {
        var time = new FakeTimeProvider(Noon);
        await using var service = await TestService.StartAsync(time);
        await service.EnrolAsync("quay-ticket-01");
        var made = await service.Api.PostAsync("me/tokens", new NewToken("nightly report", [Permission.Configure], Noon.AddDays(2), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        (made.Info.Kind, made.Info.Device).ShouldBe((SignInKind.Script, "nightly report"));
        using var script = new ApiClient(service.Address, null, made.Token);
        var host = (await script.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Single();
        (await script.GetAsync("me", WireJson.Default.Me, default)).Everywhere.ShouldBe([Permission.See, Permission.Configure]);
        var refused = await Should.ThrowAsync<ApiException>(() => script.PostAsync("jobs", new Wire.Jobs.NewJob("all", new Core.Jobs.CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default));
        refused.Problem.Word.ShouldBe(ProblemTypes.NotAllowed);
        var said = (await script.GetAsync($"hosts/{host.Id}/access", WireJson.Default.AccessExplanation, default)).Answers.Single(a => a.Permission == Permission.Run);
        (said.Reason, said.Sentence, said.Remedy).ShouldBe((AccessReason.SignInLacks, "You may not run commands on quay-ticket-01: the token of this sign-in is not for 'run'.", "Sign in without a limit, or use a token that is for it."));
        // Nor one that outlives it; and of its maker's sign-ins it ends none but itself.
        (await Should.ThrowAsync<ApiException>(() => script.PostAsync("me/tokens", new NewToken("longer", [Permission.See], Noon.AddDays(300), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default))).Problem.Status.ShouldBe(403);
        var hers = (await service.Api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.Single(s => s.Here);
        (await Should.ThrowAsync<ApiException>(() => script.ActAsync(HttpMethod.Delete, $"me/sign-ins/{hers.Id}", default))).Problem.Status.ShouldBe(403);
        (await Should.ThrowAsync<ApiException>(() => script.ActAsync(HttpMethod.Delete, "me/sign-ins", default))).Problem.Status.ShouldBe(403);

        time.Advance(TimeSpan.FromDays(2));
        (await Should.ThrowAsync<ApiException>(() => script.GetAsync("hosts", WireJson.Default.PageHostSummary, default))).Problem.Status.ShouldBe(401);
    }

    [Fact]
    public async Task A_line_that_was_opened_with_a_token_closes_when_it_ends()
    {
        await using var service = await TestService.StartAsync();
        var made = await service.Api.PostAsync("me/tokens", new NewToken("for a moment", [Permission.See], DateTimeOffset.UtcNow.AddSeconds(2), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        await using var line = service.Live(made.Token);
        var closed = new TaskCompletionSource();
        line.Closed += _ =>
        {
            closed.SetResult();
            return Task.CompletedTask;
        };
        await line.StartAsync();
        await closed.Task.WaitAsync(TimeSpan.FromSeconds(60));
    }

    [Theory]
    [InlineData("", new[] { Permission.See }, 1, "name")]
    [InlineData("report", new Permission[0], 1, "what the token is for")]
    [InlineData("report", new[] { Permission.See }, 400, "within a year")]
    [InlineData("report", new[] { Permission.See }, -1, "within a year")]
    public async Task A_token_that_makes_no_sense_is_refused(string name, Permission[] may, int days, string said)
    {
        await using var service = await TestService.StartAsync();
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("me/tokens", new NewToken(name, may, DateTimeOffset.UtcNow.AddDays(days), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default))).Message.ShouldContain(said);
    }

    [Fact]
    public async Task A_new_password_ends_every_other_sign_in()
    {
        await using var service = await TestService.StartAsync();
        using var other = await service.SignInAsync(TestService.Name);
        Task<int> ChangeAsync(string old, string next) => service.Api.PostAsync("me/password", new PasswordChange(old, next), WireJson.Default.PasswordChange, WireJson.Default.Int32, default);
        (await Should.ThrowAsync<ApiException>(() => ChangeAsync("not the password", "another-lantern-orchard"))).Message.ShouldContain("This takes your own password again");
        (await Should.ThrowAsync<ApiException>(() => ChangeAsync(TestService.Password, "qwertyuiop123456"))).Message.ShouldContain("guessed too soon");
        (await other.GetAsync("me", WireJson.Default.Me, default)).Name.ShouldBe(TestService.Name);
        (await ChangeAsync(TestService.Password, "another-lantern-orchard")).ShouldBe(1);
        (await Should.ThrowAsync<ApiException>(() => other.GetAsync("me", WireJson.Default.Me, default))).Problem.Status.ShouldBe(401);
        (await service.Api.GetAsync("me", WireJson.Default.Me, default)).Name.ShouldBe(TestService.Name);
        (await TryAsync(service, TestService.Password)).ShouldBe(ProblemTypes.WrongCredentials);
        (await TryAsync(service, "another-lantern-orchard")).ShouldBeNull();
    }

    [Theory]
    [InlineData("short", "needs 12 characters")]
    [InlineData("passwordpassword", "guessed too soon")]
    [InlineData("aaaaaaaaaaaaaaaa", "guessed too soon")]
    [InlineData("Priya Lund 1", "guessed too soon")]
    public void A_password_that_is_guessed_soon_is_refused_whatever_it_is_made_of(string password, string said) =>
        Umbrek.Service.Access.PasswordStrength.Check(password, "Priya Lund").ShouldNotBeNull().ShouldContain(said);

    [Fact]
    public void A_long_password_is_estimated_by_its_beginning_and_one_without_end_is_refused()
    {
        Umbrek.Service.Access.PasswordStrength.Check("tide-lantern-orchard", "Priya Lund").ShouldBeNull();
        Umbrek.Service.Access.PasswordStrength.Check(string.Concat(Enumerable.Repeat("tide-lantern-orchard ", 12)), "Priya Lund").ShouldBeNull();
        Umbrek.Service.Access.PasswordStrength.Check(new string('x', 10_000), "Priya Lund").ShouldNotBeNull().ShouldContain("256 is the most");
    }

    private static Task<SecondFactorOffer> BeginAsync(ApiClient who, string password = TestService.Password) =>
        who.PostAsync("me/second-factor", new PasswordProof(password), WireJson.Default.PasswordProof, WireJson.Default.SecondFactorOffer, default);

    private static Task<RecoveryCodes> ConfirmAsync(ApiClient who, string code) =>
        who.PostAsync("me/second-factor/confirm", new SecondFactorProof(code), WireJson.Default.SecondFactorProof, WireJson.Default.RecoveryCodes, default);

    private static async Task<(byte[] Secret, IReadOnlyList<string> Codes)> SetUpFactorAsync(ApiClient who, FakeTimeProvider time)
    {
        var secret = FromBase32((await BeginAsync(who)).Secret);
        return (secret, (await ConfirmAsync(who, Code(secret, time))).Codes);
    }

    private static Task<SignInSettings> RequireAsync(ApiClient lead, bool required) =>
        lead.PutAsync("settings/sign-in", new SignInSettings(required), 0, WireJson.Default.SignInSettings, WireJson.Default.SignInSettings, default);

    private static string Code(byte[] secret, FakeTimeProvider time) => Totp.Code(secret, Totp.StepAt(time.GetUtcNow()));

    /// <returns>Null when it opens, else the problem's word.</returns>
    private static async Task<string?> TryAsync(TestService service, string password, string? code = null)
    {
        using var anonymous = new ApiClient(service.Address, null);
        try
        {
            await anonymous.PostAsync("sign-in", new SignInRequest(TestService.Name, password, SignInUse.Token, null, code), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
            return null;
        }
        catch (ApiException e)
        {
            return e.Problem.Word;
        }
    }

    private static async Task<TimeSpan> LockedForAsync(TestService service)
    {
        await using var db = service.Get<IDatabase>().Open();
        return (await db.Users.AsNoTracking().SingleAsync()).LockoutEnd!.Value - service.Get<TimeProvider>().GetUtcNow();
    }

    private static async Task<string> CookieAsync(TestService service, string? had = null)
    {
        var body = JsonSerializer.Serialize(new SignInRequest(TestService.Name, TestService.Password, SignInUse.Cookie), WireJson.Default.SignInRequest);
        var (status, _, response) = await service.SendAsync(HttpMethod.Post, "/api/v1/sign-in", body, signedIn: false, r =>
        {
            r.Headers.UserAgent.ParseAdd("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0");
            if (had is not null)
            {
                r.Headers.Add("Cookie", had);
            }
        });
        status.ShouldBe(HttpStatusCode.OK);
        return response.Headers.GetValues("Set-Cookie").Single(c => c.StartsWith("umbrek=", StringComparison.Ordinal)).Split(';')[0];
    }

    private static async Task<HttpStatusCode> MeByCookieAsync(TestService service, string cookie) =>
        (await service.SendAsync(HttpMethod.Get, "/api/v1/me", signedIn: false, adjust: r => r.Headers.Add("Cookie", cookie))).Status;

    internal static byte[] FromBase32(string text)
    {
        var bits = string.Concat(text.Select(c => Convert.ToString("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567".IndexOf(c), 2).PadLeft(5, '0')));
        return [.. Enumerable.Range(0, bits.Length / 8).Select(i => Convert.ToByte(bits.Substring(i * 8, 8), 2))];
    }
}
