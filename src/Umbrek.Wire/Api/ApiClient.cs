using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Wire.Links;

namespace Umbrek.Wire.Api;

/// <summary>The service answered with an error; <see cref="Problem"/> says what and what to do.</summary>
public sealed class ApiException(Problem problem) : Exception(problem.Detail ?? problem.Title ?? "The service refused.")
{
    public Problem Problem { get; } = problem;
}

/// <summary>The service could not be reached, or is not the one that is trusted.</summary>
public sealed class UnreachableException(string message, Exception inner) : Exception(message, inner);

/// <summary>
/// Calls of the service's API with typed bodies. Errors come as <see cref="ApiException"/> (the service's own words)
/// or <see cref="UnreachableException"/> (no answer, or the wrong one).
/// </summary>
public sealed class ApiClient : IDisposable
{
    public const string Base = "api/v1/";
    private readonly ServicePin? pin;

    /// <param name="pin">The service's key; null trusts the system's certificate authorities.</param>
    public ApiClient(Uri service, ServicePin? pin, string? bearerToken = null)
    {
        this.pin = pin;
        Http = new HttpClient(Handler(pin)) { BaseAddress = Root(service), Timeout = TimeSpan.FromSeconds(100) };
        Http.DefaultRequestHeaders.UserAgent.ParseAdd("umbrek");
        if (bearerToken is not null)
        {
            Http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", bearerToken);
        }
    }

    public HttpClient Http { get; }

    public static SocketsHttpHandler Handler(ServicePin? pin)
    {
        var handler = new SocketsHttpHandler
        {
            ConnectTimeout = TimeSpan.FromSeconds(10),
            PooledConnectionLifetime = TimeSpan.FromMinutes(5),
            UseCookies = false,
            AllowAutoRedirect = false,
        };
        if (pin is not null)
        {
            handler.SslOptions.RemoteCertificateValidationCallback = pin.Validate;
        }
        return handler;
    }

    /// <summary>The address with a slash behind it, so that relative paths append.</summary>
    public static Uri Root(Uri service) => service.AbsoluteUri.EndsWith('/') ? service : new Uri(service.AbsoluteUri + "/");

    public Task<T> GetAsync<T>(string path, JsonTypeInfo<T> answer, CancellationToken cancel) =>
        SendAsync(new HttpRequestMessage(HttpMethod.Get, Base + path), answer, cancel);

    public Task<TAnswer> PostAsync<TBody, TAnswer>(string path, TBody body, JsonTypeInfo<TBody> bodyType, JsonTypeInfo<TAnswer> answer, CancellationToken cancel, string? idempotencyKey = null)
    {
        var request = new HttpRequestMessage(HttpMethod.Post, Base + path) { Content = JsonContent.Create(body, bodyType) };
        if (idempotencyKey is not null)
        {
            request.Headers.Add("Idempotency-Key", idempotencyKey);
        }
        return SendAsync(request, answer, cancel);
    }

    /// <summary>A POST that adds to something which two people could add to at once.</summary>
    public Task<TAnswer> PostAsync<TBody, TAnswer>(string path, TBody body, long version, JsonTypeInfo<TBody> bodyType, JsonTypeInfo<TAnswer> answer, CancellationToken cancel)
    {
        var request = new HttpRequestMessage(HttpMethod.Post, Base + path) { Content = JsonContent.Create(body, bodyType) };
        request.Headers.IfMatch.Add(new EntityTagHeaderValue($"\"{version}\""));
        return SendAsync(request, answer, cancel);
    }

    public Task<TAnswer> PatchAsync<TBody, TAnswer>(string path, TBody body, long version, JsonTypeInfo<TBody> bodyType, JsonTypeInfo<TAnswer> answer, CancellationToken cancel)
    {
        var request = new HttpRequestMessage(HttpMethod.Patch, Base + path) { Content = JsonContent.Create(body, bodyType) };
        request.Headers.IfMatch.Add(new EntityTagHeaderValue($"\"{version}\""));
        return SendAsync(request, answer, cancel);
    }

    public Task<TAnswer> PutAsync<TBody, TAnswer>(string path, TBody body, long version, JsonTypeInfo<TBody> bodyType, JsonTypeInfo<TAnswer> answer, CancellationToken cancel)
    {
        var request = new HttpRequestMessage(HttpMethod.Put, Base + path) { Content = JsonContent.Create(body, bodyType) };
        request.Headers.IfMatch.Add(new EntityTagHeaderValue($"\"{version}\""));
        return SendAsync(request, answer, cancel);
    }

    /// <summary>A PUT without a body.</summary>
    public Task<T> PutAsync<T>(string path, JsonTypeInfo<T> answer, CancellationToken cancel) =>
        SendAsync(new HttpRequestMessage(HttpMethod.Put, Base + path), answer, cancel);

    /// <summary>A POST without a body.</summary>
    public Task<T> ActAsync<T>(string path, JsonTypeInfo<T> answer, CancellationToken cancel) =>
        SendAsync(new HttpRequestMessage(HttpMethod.Post, Base + path), answer, cancel);

    /// <summary>A call without a body and without an answer of interest.</summary>
    public async Task ActAsync(HttpMethod method, string path, CancellationToken cancel)
    {
        using var request = new HttpRequestMessage(method, Base + path);
        using var response = await SendRawAsync(request, cancel).ConfigureAwait(false);
    }

    /// <summary>The raw answer, already checked for success; the caller disposes it.</summary>
    public async Task<HttpResponseMessage> SendRawAsync(HttpRequestMessage request, CancellationToken cancel)
    {
        HttpResponseMessage response;
        try
        {
            response = await Http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel).ConfigureAwait(false);
        }
        catch (HttpRequestException e)
        {
            throw new UnreachableException(ExplainUnreachable(Http.BaseAddress!, pin, e), e);
        }
        catch (TaskCanceledException e) when (!cancel.IsCancellationRequested)
        {
            throw new UnreachableException($"{Http.BaseAddress!.Authority} did not answer within {Http.Timeout.TotalSeconds:0} s. Try again, or look at the service's log.", e);
        }
        if (response.IsSuccessStatusCode)
        {
            return response;
        }
        using (response)
        {
            throw new ApiException(await ReadProblemAsync(response, cancel).ConfigureAwait(false));
        }
    }

    /// <summary>One sentence on why a service could not be reached, and what to do.</summary>
    public static string ExplainUnreachable(Uri service, ServicePin? pin, Exception e)
    {
        var cause = e;
        while (cause.InnerException is { } inner)
        {
            if (cause is System.Security.Authentication.AuthenticationException)
            {
                break;
            }
            cause = inner;
        }
        if (cause is System.Security.Authentication.AuthenticationException)
        {
            return pin is { Seen: { } seen } && seen != pin.ToString()
                ? $"{service.Authority} shows another key than the one that is trusted (seen {seen}, trusted {pin}). It may be another service, or somebody in between; nothing was sent. If the service's key was replaced on purpose, trust the new one."
                : $"The certificate of {service.Authority} can't be trusted: {cause.Message}";
        }
        return $"{service.Authority} can't be reached: {cause.Message}. Check the address, and that umbrekd runs there.";
    }

    public void Dispose() => Http.Dispose();

    private async Task<T> SendAsync<T>(HttpRequestMessage request, JsonTypeInfo<T> answer, CancellationToken cancel)
    {
        using (request)
        {
            using var response = await SendRawAsync(request, cancel).ConfigureAwait(false);
            return await response.Content.ReadFromJsonAsync(answer, cancel).ConfigureAwait(false)
                ?? throw new ApiException(new Problem(null, "Empty answer", (int)response.StatusCode, "The service answered without content. Check that client and service are of like version."));
        }
    }

    private static async Task<Problem> ReadProblemAsync(HttpResponseMessage response, CancellationToken cancel)
    {
        try
        {
            if (response.Content.Headers.ContentType?.MediaType == "application/problem+json"
                && await response.Content.ReadFromJsonAsync(LinkJson.Default.Problem, cancel).ConfigureAwait(false) is { } problem)
            {
                return problem;
            }
        }
        catch (JsonException)
        {
            // Not ours: said below.
        }
        return new Problem(null, response.ReasonPhrase, (int)response.StatusCode, $"The address answered {(int)response.StatusCode} {response.ReasonPhrase}, not as an Umbrek service does. Check the address.");
    }
}
