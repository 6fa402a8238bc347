namespace Umbrek.Core.Files;

/// <summary>A folder that each system has, and each somewhere else. Those of a person are there once for each who is logged in.</summary>
public enum NamedPlace
{
    Home,
    Desktop,
    Documents,
    Downloads,
    Temporary,
    Settings,
    Programs,
    ProgramData,
    Fonts,
}

public static class NamedPlaces
{
    public static bool IsOfPerson(this NamedPlace place) => place is NamedPlace.Home or NamedPlace.Desktop or NamedPlace.Documents or NamedPlace.Downloads;

    /// <summary>The word that people and the API say.</summary>
    public static string Word(this NamedPlace place) => place == NamedPlace.ProgramData ? "program-data" : place.ToString().ToLowerInvariant();

    public static NamedPlace? Find(string word) => Enum.GetValues<NamedPlace>().Cast<NamedPlace?>().FirstOrDefault(p => p!.Value.Word() == word);

    public static string Describe(this NamedPlace place) => place switch
    {
        NamedPlace.Home => "the home of whoever is logged in",
        NamedPlace.Desktop => "the desktop of whoever is logged in",
        NamedPlace.Documents => "the documents of whoever is logged in",
        NamedPlace.Downloads => "the downloads of whoever is logged in",
        NamedPlace.Temporary => "the folder for temporary files",
        NamedPlace.Settings => "the system's settings",
        NamedPlace.Programs => "the folder for programs",
        NamedPlace.ProgramData => "the data that programs share",
        _ => "the system's fonts",
    };
}
