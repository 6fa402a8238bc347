namespace Umbrek.Agent.Platform.Linux;

/// <summary>Programs that the system has, by their names.</summary>
internal static class Installed
{
    private static readonly string[] places = ["/usr/local/bin", "/usr/bin", "/bin", "/usr/local/games", "/usr/games"];

    /// <returns>The program's file, or null.</returns>
    public static string? Find(string program) => places.Select(d => Path.Combine(d, program)).FirstOrDefault(File.Exists);
}
