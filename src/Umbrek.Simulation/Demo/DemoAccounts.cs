using System.Text.Json;
using System.Text.Json.Serialization;

namespace Umbrek.Simulation.Demo;

/// <summary>A technician of the demo world and the password that opens it; such accounts exist in demo data only.</summary>
public sealed record DemoAccount(string Name, string Password);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(List<DemoAccount>))]
internal sealed partial class DemoJson : JsonSerializerContext;

public static class DemoAccounts
{
    private const string FileName = "demo-accounts.json";

    public static List<DemoAccount>? Load(string directory)
    {
        var file = Path.Combine(directory, FileName);
        return File.Exists(file) ? JsonSerializer.Deserialize(File.ReadAllBytes(file), DemoJson.Default.ListDemoAccount) : null;
    }

    public static void Save(string directory, List<DemoAccount> accounts) =>
        Umbrek.Agent.Hosting.StateDirectory.WriteWhole(Path.Combine(directory, FileName), accounts, DemoJson.Default.ListDemoAccount);
}
