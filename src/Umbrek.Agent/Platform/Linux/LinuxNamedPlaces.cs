using System.Text;
using Umbrek.Agent.Files;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Where the named places lie: the Filesystem Hierarchy Standard 3.0 for the system's, xdg-user-dirs for people's.</summary>
public static class LinuxNamedPlaces
{
    private const int MostSettings = 64 * 1024;

    private const string Temporary = "/tmp";

    /// <param name="people">Who is logged in, with the home of each.</param>
    /// <exception cref="IOException">There is none here.</exception>
    public static IReadOnlyList<PlaceHere> Find(NamedPlace place, IReadOnlyList<(string Name, string Home)> people)
    {
        if (!place.IsOfPerson())
        {
            var folder = place switch
            {
                NamedPlace.Temporary => Temporary,
                NamedPlace.Settings => "/etc",
                NamedPlace.Programs => "/opt",
                NamedPlace.ProgramData => "/usr/local/share",
                _ => "/usr/local/share/fonts",
            };
            // Where everybody may put links, none leads out.
            return [new PlaceHere(new FileName(folder), Within: place == NamedPlace.Temporary ? Temporary : null)];
        }
        var homes = people.Where(p => Directory.Exists(p.Home)).ToList();
        return homes.Count > 0
            ? [.. homes.Select(u => new PlaceHere(new FileName(FolderOf(place, u.Home)), u.Name, u.Home))]
            : throw new IOException($"Nobody is logged in on this host, so there is no place '{place.Word()}'.");
    }

    private static string FolderOf(NamedPlace place, string home) => place == NamedPlace.Home ? home : Named(place, home) ?? Path.Combine(home, place.ToString());

    /// <summary>As the person's own settings have it: XDG_DESKTOP_DIR="$HOME/Desktop". They are read within his home, for he writes them.</summary>
    private static string? Named(NamedPlace place, string home)
    {
        string text;
        try
        {
            using var settings = new LinuxFiles([home]).Open(new FileName($"{home}/.config/user-dirs.dirs"));
            var buffer = new byte[MostSettings];
            text = Encoding.UTF8.GetString(buffer, 0, settings.Read(0, buffer));
        }
        catch (IOException)
        {
            return null;
        }
        var name = $"XDG_{(place == NamedPlace.Downloads ? "DOWNLOAD" : place.ToString().ToUpperInvariant())}_DIR=";
        var value = text.Split('\n').Select(l => l.Trim()).LastOrDefault(l => l.StartsWith(name, StringComparison.Ordinal))?[name.Length..].Trim('"');
        var below = value is null ? "" : value.StartsWith("$HOME/", StringComparison.Ordinal) ? value["$HOME/".Length..].Trim('/') : value.StartsWith(home + "/", StringComparison.Ordinal) ? value[(home.Length + 1)..].Trim('/') : "";
        // What leads elsewhere is not gone to, and the home itself means that there is none.
        return below.Length == 0 || below.Split('/').Any(p => !new FileName(p).IsPlainName()) ? null : $"{home}/{below}";
    }
}
