namespace Umbrek.Service.Hosting;

/// <summary>Who asks, from where, and under which address the service was reached.</summary>
public static class CallerOf
{
    public static string? Address(this HttpContext http) => http.Connection.RemoteIpAddress is { } address
        ? (address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address).ToString()
        : null;

    /// <summary>The address that the caller used, which is the one that others nearby can use too.</summary>
    public static Uri OwnAddress(this HttpContext http) => new($"{http.Request.Scheme}://{http.Request.Host}");
}
