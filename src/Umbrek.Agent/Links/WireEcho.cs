using System.Text.Json;
using Umbrek.Wire;

namespace Umbrek.Agent.Links;

/// <summary>Reads a message by the name of its type and writes it again: what this program really knows of the protocol.</summary>
public static class WireEcho
{
    public static string Echo(string line)
    {
        var (name, json) = line.Split(' ', 2) is [var first, var rest] ? (first, rest) : (line, "null");
        var type = Find(name);
        if (type is null)
        {
            return $"unknown type {name}";
        }
        try
        {
            var value = JsonSerializer.Deserialize(json, type);
            return JsonSerializer.Serialize(value, type);
        }
        catch (JsonException e)
        {
            return $"malformed {name}: {e.Message}";
        }
    }

    private static System.Text.Json.Serialization.Metadata.JsonTypeInfo? Find(string name) => name switch
    {
        "LinkChallenge" => WireJson.Default.LinkChallenge,
        "LinkHello" => WireJson.Default.LinkHello,
        "LinkWelcome" => WireJson.Default.LinkWelcome,
        "FactReport" => WireJson.Default.FactReport,
        "SampleBatch" => WireJson.Default.SampleBatch,
        "RunEventBatch" => WireJson.Default.RunEventBatch,
        "RunOrder" => WireJson.Default.RunOrder,
        "RunCancel" => WireJson.Default.RunCancel,
        "RunsKept" => WireJson.Default.RunsKept,
        "SamplesKept" => WireJson.Default.SamplesKept,
        "RunHeld" => WireJson.Default.RunHeld,
        "LinkGoodbye" => WireJson.Default.LinkGoodbye,
        "HostRequest" => WireJson.Default.HostRequest,
        "ReleaseOffer" => WireJson.Default.ReleaseOffer,
        "ScanOrder" => WireJson.Default.ScanOrder,
        "ScanReport" => WireJson.Default.ScanReport,
        "UpdateReport" => WireJson.Default.UpdateReport,
        "HostAnswer" => WireJson.Default.HostAnswer,
        _ => null,
    };
}
