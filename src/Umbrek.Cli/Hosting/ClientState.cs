using Umbrek.Wire;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Core.Audit;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;

namespace Umbrek.Cli.Hosting;

/// <summary>Who is signed in where. The token is as good as a password, so the file is its owner's alone.</summary>
/// <param name="ServiceKey">The trusted key's fingerprint; null when the system's authorities vouch for the service.</param>
public sealed record SignedIn(Uri Service, string? ServiceKey, string Name, string Token, DateTimeOffset? ExpiresAt)
{
    public ServicePin? NewPin() => ServiceKey is null ? null : ServicePin.Parse(ServiceKey);
}

/// <summary>What sign-in and sign-out print for machines: who, where, and until when; the token stays in its file.</summary>
public sealed record SignInReport(Uri Service, string Name, bool SignedIn, DateTimeOffset? ExpiresAt);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(SignedIn))]
[JsonSerializable(typeof(SignInReport))]
[JsonSerializable(typeof(Dictionary<string, AuditAnchor>))]
public sealed partial class ClientJson : JsonSerializerContext;

/// <summary>The client's directory: $UMBREK_HOME, else below $XDG_CONFIG_HOME (XDG Base Directory Specification).</summary>
public sealed class ClientState
{
    private readonly string directory;

    public ClientState()
    {
        directory = Environment.GetEnvironmentVariable("UMBREK_HOME") is { Length: > 0 } home ? home
            : Environment.GetEnvironmentVariable("XDG_CONFIG_HOME") is { Length: > 0 } config ? Path.Combine(config, "umbrek")
            : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".config", "umbrek");
    }

    private string SeenFile => Path.Combine(directory, "audit-seen.json");

    private string SignInFile => Path.Combine(directory, "sign-in.json");

    public SignedIn? Load()
    {
        if (!File.Exists(SignInFile))
        {
            return null;
        }
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllBytes(SignInFile), ClientJson.Default.SignedIn);
        }
        catch (JsonException e)
        {
            throw new ClientException($"{SignInFile} is damaged ({e.Message}). Sign in again: umbrek sign-in URL", ExitCodes.NotSignedIn);
        }
    }

    /// <summary>What a script runs with: $UMBREK_TOKEN, at $UMBREK_SERVICE whose key is $UMBREK_TRUST, or at the service that is signed in at.</summary>
    private SignedIn? FromEnvironment()
    {
        if (Environment.GetEnvironmentVariable("UMBREK_TOKEN") is not { Length: > 0 } token)
        {
            return null;
        }
        if (Environment.GetEnvironmentVariable("UMBREK_SERVICE") is not { Length: > 0 } service)
        {
            return Load() is { } known ? known with { Token = token } : throw new ClientException("UMBREK_TOKEN is set, and no service is known: set UMBREK_SERVICE to its address (and UMBREK_TRUST to its key, if no authority vouches for it).", ExitCodes.NotSignedIn);
        }
        return Uri.TryCreate(service, UriKind.Absolute, out var address)
            ? new SignedIn(address, Environment.GetEnvironmentVariable("UMBREK_TRUST") is { Length: > 0 } key ? key : null, "a token", token, null)
            : throw new ClientException($"UMBREK_SERVICE is '{service}', which is no address; write it like https://care.halyard.example:8443", ExitCodes.WrongUse);
    }

    public SignedIn Require() => FromEnvironment() ?? Load() ?? throw new ClientException("You are not signed in. Sign in first: umbrek sign-in https://SERVICE --name NAME", ExitCodes.NotSignedIn);

    /// <summary>Calls as the technician who is signed in.</summary>
    public ApiClient Open()
    {
        var who = Require();
        return new ApiClient(who.Service, who.NewPin(), who.Token);
    }

    /// <summary>The last line of a service's audit log that was found in order from here.</summary>
    public AuditAnchor? LoadSeen(Uri service) => LoadAllSeen().GetValueOrDefault(service.Authority);

    public void SaveSeen(Uri service, AuditAnchor last)
    {
        var all = LoadAllSeen();
        all[service.Authority] = last;
        WriteWhole(SeenFile, all, ClientJson.Default.DictionaryStringAuditAnchor);
    }

    private Dictionary<string, AuditAnchor> LoadAllSeen()
    {
        try
        {
            return File.Exists(SeenFile) ? JsonSerializer.Deserialize(File.ReadAllBytes(SeenFile), ClientJson.Default.DictionaryStringAuditAnchor) ?? [] : [];
        }
        catch (JsonException e)
        {
            throw new ClientException($"{SeenFile} is damaged ({e.Message}). It tells which lines of audit logs were seen earlier; give the last one with --seen, or remove the file to begin anew.");
        }
    }

    private string DeviceFile => Path.Combine(directory, "device.json");

    /// <summary>Random text by which services know this user's device again; made when it is first asked for.</summary>
    public string DeviceKey()
    {
        if (File.Exists(DeviceFile))
        {
            try
            {
                return JsonSerializer.Deserialize(File.ReadAllBytes(DeviceFile), WireJson.Default.String) ?? "";
            }
            catch (JsonException)
            {
                // A damaged one is as good as none: the device is a new one then.
            }
        }
        var made = Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(32));
        WriteWhole(DeviceFile, made, WireJson.Default.String);
        return made;
    }

    public void Save(SignedIn who) => WriteWhole(SignInFile, who, ClientJson.Default.SignedIn);

    private void WriteWhole<T>(string path, T content, JsonTypeInfo<T> type)
    {
        var options = new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write };
        if (OperatingSystem.IsWindows())
        {
            Directory.CreateDirectory(directory);
        }
        else
        {
            Directory.CreateDirectory(directory, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }
        var temporary = path + ".new";
        File.Delete(temporary);
        using (var file = new FileStream(temporary, options))
        {
            JsonSerializer.Serialize(file, content, type);
        }
        File.Move(temporary, path, overwrite: true);
    }

    public void Forget() => File.Delete(SignInFile);
}
