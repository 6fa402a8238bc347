using System.Net;
using System.Text.Json;
using Umbrek.Tests;

namespace Umbrek.Service.Tests.Hosting;

public sealed class HttpTests
{
    [Fact]
    public async Task Everything_that_goes_wrong_is_told_as_problem_details()
    {
        await using var service = await TestService.StartAsync();
        (HttpMethod, string, string?, bool, HttpStatusCode, string)[] cases =
        [
            (HttpMethod.Post, "/api/v1/jobs", "{bad", true, HttpStatusCode.BadRequest, "malformed"),
            (HttpMethod.Post, "/api/v1/jobs", "", true, HttpStatusCode.BadRequest, "malformed"),
            (HttpMethod.Post, "/api/v1/jobs", "[]", true, HttpStatusCode.BadRequest, "malformed"),
            (HttpMethod.Post, "/api/v1/jobs", """{"selection":"all"}""", true, HttpStatusCode.BadRequest, "invalid"),
            (HttpMethod.Post, "/api/v1/jobs", """{"selection":"all","command":{"line":"x","timeoutSeconds":"soon"}}""", true, HttpStatusCode.BadRequest, "malformed"),
            (HttpMethod.Post, "/api/v1/jobs", """{"selection":"in (","command":{"line":"x"}}""", true, HttpStatusCode.BadRequest, "selection-unreadable"),
            (HttpMethod.Post, "/api/v1/jobs", """{"selection":"nobody","command":{"line":"x"}}""", true, HttpStatusCode.UnprocessableEntity, "selection-empty"),
            (HttpMethod.Delete, "/api/v1/jobs", null, true, HttpStatusCode.NotFound, "not-found"),
            (HttpMethod.Get, "/api/v1/hosts?limit=100000", null, true, HttpStatusCode.BadRequest, "invalid"),
            (HttpMethod.Get, "/api/v1/hosts?limit=x", null, true, HttpStatusCode.BadRequest, "malformed"),
            (HttpMethod.Get, $"/api/v1/hosts/{Guid.NewGuid()}", null, true, HttpStatusCode.NotFound, "not-found"),
            (HttpMethod.Get, "/api/v1/nothing", null, true, HttpStatusCode.NotFound, "not-found"),
            (HttpMethod.Get, "/api/v1/hosts", null, false, HttpStatusCode.Unauthorized, "not-signed-in"),
            (HttpMethod.Get, "/api/v1/technicians", null, false, HttpStatusCode.Unauthorized, "not-signed-in"),
        ];
        foreach (var (method, path, json, signedIn, status, word) in cases)
        {
            var answer = await service.SendAsync(method, path, json, signedIn);
            answer.Status.ShouldBe(status, $"{path} {json}: {answer.Body}");
            answer.Response.Content.Headers.ContentType!.MediaType.ShouldBe("application/problem+json", path);
            var problem = JsonDocument.Parse(answer.Body).RootElement;
            problem.GetProperty("type").GetString().ShouldBe($"urn:umbrek:problem:{word}", path);
            problem.GetProperty("detail").GetString()!.Length.ShouldBeGreaterThan(15);
        }
    }

    [Fact]
    public async Task Whoever_calls_too_fast_is_told_to_go_slower_and_nobody_else_is()
    {
        await using var service = await TestService.StartAsync(adjust: o => o with { CallsPerSecond = 5 });
        var answers = await Task.WhenAll(Enumerable.Range(0, 120).Select(_ => service.SendAsync(HttpMethod.Get, "/api/v1/hosts")));
        answers.Count(a => a.Status == HttpStatusCode.OK).ShouldBeInRange(20, 100);
        var refused = answers.First(a => a.Status == HttpStatusCode.TooManyRequests);
        refused.Body.ShouldContain("urn:umbrek:problem:too-many-calls");
        refused.Body.ShouldContain($"come from the account {TestService.Name}. Go on in 1 s, and slower.");
        refused.Response.Headers.RetryAfter!.Delta.ShouldBe(TimeSpan.FromSeconds(1));
        answers.ShouldAllBe(a => a.Status == HttpStatusCode.OK || a.Status == HttpStatusCode.TooManyRequests);
        // An address without an account has its own; pages and links are not calls.
        (await service.SendAsync(HttpMethod.Get, "/api/v1/sign-in/ways", signedIn: false)).Status.ShouldBe(HttpStatusCode.OK);
        (await service.SendAsync(HttpMethod.Get, "/health/live", signedIn: false)).Status.ShouldBe(HttpStatusCode.OK);
    }

    [Fact]
    public async Task No_endpoint_but_the_named_ones_answers_a_stranger()
    {
        await using var service = await TestService.StartAsync();
        string[] open = ["GET /api/v1/set-up", "POST /api/v1/set-up", "POST /api/v1/sign-in", "GET /api/v1/sign-in/ways", "POST /api/v1/sign-in/passkey/begin", "POST /api/v1/sign-in/passkey", "POST /api/v1/sign-in/pairings", "POST /api/v1/sign-in/pairings/claim", "POST /api/v1/enrolments", "GET /api/v1/offers/{secret}"];
        var description = JsonDocument.Parse((await service.SendAsync(HttpMethod.Get, "/openapi/v1.json", signedIn: false)).Body).RootElement;
        var seen = 0;
        foreach (var path in description.GetProperty("paths").EnumerateObject())
        {
            foreach (var operation in path.Value.EnumerateObject())
            {
                var method = operation.Name.ToUpperInvariant();
                if (open.Contains($"{method} {path.Name}"))
                {
                    continue;
                }
                seen++;
                var answer = await service.SendAsync(new HttpMethod(method), System.Text.RegularExpressions.Regex.Replace(path.Name, "{[a-zA-Z]*[iI]d}", Guid.NewGuid().ToString()), method == "GET" ? null : "{}", signedIn: false);
                answer.Status.ShouldBe(HttpStatusCode.Unauthorized, $"{method} {path.Name}");
            }
        }
        seen.ShouldBeGreaterThan(15);
    }

    [Fact]
    public async Task Pages_of_others_can_change_nothing()
    {
        await using var service = await TestService.StartAsync();
        var foreign = await service.SendAsync(HttpMethod.Post, "/api/v1/groups", """{"name":"x"}""", adjust: r => r.Headers.Add("Origin", "https://elsewhere.example"));
        foreign.Status.ShouldBe(HttpStatusCode.Forbidden);
        foreign = await service.SendAsync(HttpMethod.Post, "/api/v1/groups", """{"name":"x"}""", adjust: r => r.Headers.Add("Sec-Fetch-Site", "cross-site"));
        foreign.Status.ShouldBe(HttpStatusCode.Forbidden);
        foreign = await service.SendAsync(HttpMethod.Get, "/live", adjust: r => r.Headers.Add("Origin", "https://elsewhere.example"));
        foreign.Status.ShouldBe(HttpStatusCode.Forbidden);
        var own = await service.SendAsync(HttpMethod.Post, "/api/v1/groups", """{"name":"x"}""", adjust: r => r.Headers.Add("Origin", service.Address.GetLeftPart(UriPartial.Authority)));
        own.Status.ShouldBe(HttpStatusCode.Created);
    }

    [Fact]
    public async Task Answers_carry_strict_headers()
    {
        await using var service = await TestService.StartAsync();
        var answer = await service.SendAsync(HttpMethod.Get, "/health/ready", signedIn: false);
        answer.Body.ShouldBe("ready\n");
        var headers = answer.Response.Headers;
        var policy = headers.GetValues("Content-Security-Policy").Single();
        policy.ShouldContain("script-src 'self';");
        policy.ShouldContain("frame-ancestors 'none'");
        policy.ShouldNotContain("unsafe");
        headers.GetValues("X-Content-Type-Options").Single().ShouldBe("nosniff");
        headers.Contains("Server").ShouldBeFalse();
    }

    [Fact]
    public async Task The_committed_description_of_the_API_is_the_one_that_is_served()
    {
        await using var service = await TestService.StartAsync();
        var served = (await service.SendAsync(HttpMethod.Get, "/openapi/v1.json", signedIn: false)).Body;
        var committed = await File.ReadAllTextAsync(Path.Combine(TestPrograms.Root, "console", "openapi.json"));
        Normal(served).ShouldBe(Normal(committed), "run: make openapi");
    }

    private static string Normal(string json) => JsonSerializer.Serialize(JsonDocument.Parse(json).RootElement);
}
