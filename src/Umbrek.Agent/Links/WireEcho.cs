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
        "LinkChallenge" => LinkJson.Default.LinkChallenge,
        "LinkHello" => LinkJson.Default.LinkHello,
        "LinkWelcome" => LinkJson.Default.LinkWelcome,
        "FactReport" => LinkJson.Default.FactReport,
        "SampleBatch" => LinkJson.Default.SampleBatch,
        "WantedProbes" => LinkJson.Default.WantedProbes,
        "ProbeOrder" => LinkJson.Default.ProbeOrder,
        "ProbeReport" => LinkJson.Default.ProbeReport,
        "ProbeTried" => LinkJson.Default.ProbeTried,
        "LookOrder" => LinkJson.Default.LookOrder,
        "RunEventBatch" => LinkJson.Default.RunEventBatch,
        "RunOrder" => LinkJson.Default.RunOrder,
        "RunCancel" => LinkJson.Default.RunCancel,
        "RunsKept" => LinkJson.Default.RunsKept,
        "SamplesKept" => LinkJson.Default.SamplesKept,
        "RunHeld" => LinkJson.Default.RunHeld,
        "ChannelOrder" => LinkJson.Default.ChannelOrder,
        "ShellWish" => LinkJson.Default.ShellWish,
        "ShellWord" => LinkJson.Default.ShellWord,
        "SessionEnd" => LinkJson.Default.SessionEnd,
        "ConsentReport" => LinkJson.Default.ConsentReport,
        "KeyReport" => LinkJson.Default.KeyReport,
        "FileReport" => LinkJson.Default.FileReport,
        "FileAsk" => LinkJson.Default.FileAsk,
        "DesktopWish" => LinkJson.Default.DesktopWish,
        "DesktopWord" => LinkJson.Default.DesktopWord,
        "DesktopAsk" => LinkJson.Default.DesktopAsk,
        "FileWord" => LinkJson.Default.FileWord,
        "HostSide" => LinkJson.Default.HostSide,
        "HostPolicy" => LinkJson.Default.HostPolicy,
        "LinkGoodbye" => LinkJson.Default.LinkGoodbye,
        "HostRequest" => LinkJson.Default.HostRequest,
        "ReleaseOffer" => LinkJson.Default.ReleaseOffer,
        "ScanOrder" => LinkJson.Default.ScanOrder,
        "ScanReport" => LinkJson.Default.ScanReport,
        "UpdateReport" => LinkJson.Default.UpdateReport,
        "HostAnswer" => LinkJson.Default.HostAnswer,
        _ => null,
    };
}
