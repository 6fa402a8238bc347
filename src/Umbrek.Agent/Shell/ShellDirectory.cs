using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Shell;

namespace Umbrek.Agent.Shell;

/// <summary>A shell as its keeper begins it.</summary>
public sealed record KeptShell(Guid TechnicianId, string Technician, ShellWish Wish, DateTimeOffset BeganAt);

/// <summary>The directory of one shell that goes on here; its keeper removes it in the end.</summary>
public sealed class ShellDirectory(string path)
{
    public string Path { get; } = path;
    public Guid ShellId => Guid.ParseExact(System.IO.Path.GetFileName(Path), "N");
    public string Socket => System.IO.Path.Combine(Path, "keeper");
    private string ShellFile => System.IO.Path.Combine(Path, "shell.json");
    private string SessionFile => System.IO.Path.Combine(Path, "session");

    public void Write(KeptShell shell) => StateDirectory.WriteWhole(ShellFile, shell, AgentJson.Default.KeptShell);

    /// <returns>Null when it is gone, or was never whole.</returns>
    public KeptShell? Read()
    {
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllBytes(ShellFile), AgentJson.Default.KeptShell);
        }
        catch (Exception e) when (e is IOException or JsonException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>The session in which somebody was last connected to it; it ends with that.</summary>
    public Guid? Session
    {
        get => File.Exists(SessionFile) && Guid.TryParse(File.ReadAllText(SessionFile), out var id) ? id : null;
        set => StateDirectory.WriteWhole(SessionFile, System.Text.Encoding.UTF8.GetBytes($"{value}"));
    }

    /// <summary>The right to keep it; null when a living keeper has it.</summary>
    public IDisposable? TryLock()
    {
        try
        {
            return new FileStream(System.IO.Path.Combine(Path, "lock"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException e) when (e is not DirectoryNotFoundException)
        {
            return null;
        }
    }

    public void Remove()
    {
        try
        {
            Directory.Delete(Path, recursive: true);
        }
        catch (DirectoryNotFoundException)
        {
            // Somebody else has removed it.
        }
    }
}
