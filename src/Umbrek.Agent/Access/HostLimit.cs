using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Access;

/// <summary>
/// The file by which the computer's owner narrows what the service may ever have done here. Whoever can write it can widen it, so it is
/// relied on only when that is nobody but its owner.
/// </summary>
public static class HostLimit
{
    /// <summary>What to do about a file that can't be relied on, behind every complaint about one.</summary>
    private const string Mend = "Nothing is allowed here until it is mended; 'umbrek-agent limit' writes it anew.";

    private static readonly string[] Words = ["allowed", "consent", "notice", "keyFor", "putOffMinutes", "record"];

    /// <returns>Null when there is no file.</returns>
    /// <exception cref="InvalidDataException">The file is there and can't be relied on; the message says why and what to do.</exception>
    public static HostPolicyPart? Read(string file)
    {
        try
        {
            if (!File.Exists(file))
            {
                return null;
            }
            CheckOwner(file);
            CheckOwner(Path.GetDirectoryName(file)!);
            var text = File.ReadAllBytes(file);
            CheckWords(file, text);
            return JsonSerializer.Deserialize(text, AgentJson.Default.HostPolicyPart)?.Normalise()
                ?? throw new InvalidDataException($"{file} says nothing that can be used. {Mend}");
        }
        catch (Exception e) when (e is JsonException or IOException and not FileNotFoundException or UnauthorizedAccessException)
        {
            throw new InvalidDataException($"{file} can't be read ({e.Message.TrimEnd('.')}). {Mend}", e);
        }
    }

    /// <summary>Narrows what the file leaves, when the policy narrows anything: what was agreed when the host joined is in its owner's hands from then on.</summary>
    public static void Narrow(string file, HostPolicy agreed)
    {
        if (agreed.ToLimit() is { SaysNothing: false } limit)
        {
            Write(file, HostPolicy.Everything.NarrowedBy(Read(file) ?? HostPolicyPart.Inherit).NarrowedBy(limit).ToLimit());
        }
    }

    /// <summary>Writes the file; nobody but its owner may open it.</summary>
    public static void Write(string file, HostPolicyPart limit)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(file)!);
        StateDirectory.WriteWhole(file, limit, AgentJson.Default.HostPolicyPart);
    }

    /// <summary>Removes the file, and its directory when that is left empty.</summary>
    public static void Remove(string file)
    {
        var directory = Path.GetDirectoryName(file)!;
        if (Directory.Exists(directory))
        {
            File.Delete(file);
            if (!Directory.EnumerateFileSystemEntries(directory).Any())
            {
                Directory.Delete(directory);
            }
        }
    }

    /// <summary>A limit under a misspelt word would be no limit.</summary>
    private static void CheckWords(string file, byte[] text)
    {
        using var document = JsonDocument.Parse(text);
        if (document.RootElement.ValueKind != JsonValueKind.Object)
        {
            throw new InvalidDataException($"{file} is no JSON object. {Mend}");
        }
        foreach (var word in document.RootElement.EnumerateObject().Select(p => p.Name))
        {
            if (!Words.Contains(word))
            {
                throw new InvalidDataException($"{file} says '{word}', which is none of {string.Join(", ", Words)}. {Mend}");
            }
        }
    }

    private static void CheckOwner(string path)
    {
        if (OperatingSystem.IsWindows())
        {
            return;
        }
        var owner = FileOwner.Of(path);
        if (owner.UserId != 0 && owner.UserId != FileOwner.Self)
        {
            throw new InvalidDataException($"{path} belongs to user {owner.UserId}, who could widen it. It has to belong to root: chown root {path}. {Mend}");
        }
        if ((File.GetUnixFileMode(path) & (UnixFileMode.GroupWrite | UnixFileMode.OtherWrite)) != 0)
        {
            throw new InvalidDataException($"{path} can be changed by others than its owner: chmod go-w {path}. {Mend}");
        }
    }
}
