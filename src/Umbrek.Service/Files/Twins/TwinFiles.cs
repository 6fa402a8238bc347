using System.Text.Json;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

/// <summary>What is remembered of twins in the data directory, a file of lines of JSON each: how both sides stood when they were in step last, and what the last turn did.</summary>
public sealed class TwinFiles(ServiceOptions options)
{
    private readonly string folder = options.PathOf("twins");

    public Dictionary<FileName, TwinBase> ReadBase(Guid id)
    {
        var known = new Dictionary<FileName, TwinBase>();
        foreach (var line in Lines(BaseOf(id)))
        {
            var one = JsonSerializer.Deserialize(line, WireJson.Default.TwinBase)!;
            known[one.Path] = one;
        }
        return known;
    }

    public void WriteBase(Guid id, IEnumerable<TwinBase> known) => Write(BaseOf(id), known.Select(k => JsonSerializer.SerializeToUtf8Bytes(k, WireJson.Default.TwinBase)));

    public List<TurnAct> ReadActs(Guid id, int most) => [.. Lines(ActsOf(id)).Take(most).Select(l => JsonSerializer.Deserialize(l, WireJson.Default.TurnAct)!)];

    public void WriteActs(Guid id, IEnumerable<TurnAct> acts) => Write(ActsOf(id), acts.Select(a => JsonSerializer.SerializeToUtf8Bytes(a, WireJson.Default.TurnAct)));

    public void Drop(Guid id)
    {
        if (Directory.Exists(folder))
        {
            File.Delete(BaseOf(id));
            File.Delete(ActsOf(id));
        }
    }

    private string BaseOf(Guid id) => Path.Combine(folder, $"{id:N}.base");

    private string ActsOf(Guid id) => Path.Combine(folder, $"{id:N}.acts");

    private static IEnumerable<string> Lines(string file) => File.Exists(file) ? File.ReadLines(file) : [];

    private void Write(string file, IEnumerable<byte[]> lines)
    {
        Directory.CreateDirectory(folder);
        var options = new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write, BufferSize = 1 << 16 };
        if (!OperatingSystem.IsWindows())
        {
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }
        using (var stream = new FileStream(file + ".new", options))
        {
            foreach (var line in lines)
            {
                stream.Write(line);
                stream.WriteByte((byte)'\n');
            }
            stream.Flush(flushToDisk: true);
        }
        File.Move(file + ".new", file, overwrite: true);
    }
}
