using Umbrek.Agent.Files;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Files;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Files;

public sealed class NamedPlacesTests : IDisposable
{
    private readonly TestDirectory homes = new();

    public void Dispose() => homes.Dispose();

    private (string Name, string Home) Person(string name, string? settings = null)
    {
        var home = homes.In(name);
        Directory.CreateDirectory(Path.Combine(home, ".config"));
        if (settings is not null)
        {
            File.WriteAllText(Path.Combine(home, ".config/user-dirs.dirs"), settings);
        }
        return (name, home);
    }

    private static string FolderOf(NamedPlace place, (string, string) person) => LinuxNamedPlaces.Find(place, [person]).ShouldHaveSingleItem().Folder.Text;

    [Fact]
    public void The_system_s_are_where_its_standard_has_them()
    {
        foreach (var (place, folder) in (IEnumerable<(NamedPlace, string)>)[(NamedPlace.Temporary, "/tmp"), (NamedPlace.Settings, "/etc"), (NamedPlace.Programs, "/opt"), (NamedPlace.ProgramData, "/usr/local/share"), (NamedPlace.Fonts, "/usr/local/share/fonts")])
        {
            var here = LinuxNamedPlaces.Find(place, []).ShouldHaveSingleItem();
            (here.Folder.Text, here.Person, here.Within).ShouldBe((folder, null, place == NamedPlace.Temporary ? "/tmp" : null));
        }
    }

    [Fact]
    public void Those_of_people_are_there_once_for_each_and_stay_in_the_home()
    {
        var (elin, piet) = (Person("elin"), Person("piet"));
        LinuxNamedPlaces.Find(NamedPlace.Home, [elin, piet]).ShouldBe([new PlaceHere(new FileName(elin.Home), "elin", elin.Home), new PlaceHere(new FileName(piet.Home), "piet", piet.Home)]);
        Should.Throw<IOException>(() => LinuxNamedPlaces.Find(NamedPlace.Desktop, [])).Message.ShouldBe("Nobody is logged in on this host, so there is no place 'desktop'.");
        Should.Throw<IOException>(() => LinuxNamedPlaces.Find(NamedPlace.Desktop, [("daemon", homes.In("none"))])).Message.ShouldContain("Nobody is logged in");
    }

    [Fact]
    public void A_person_s_own_settings_say_what_it_is_called()
    {
        var elin = Person("elin", "# this file is written by somebody's desktop\nXDG_DESKTOP_DIR=\"$HOME/Schreibtisch\"\nXDG_DOWNLOAD_DIR=\"$HOME/in/box/\"\nXDG_DOCUMENTS_DIR=\"$HOME/\"\n");
        FolderOf(NamedPlace.Desktop, elin).ShouldBe($"{elin.Home}/Schreibtisch");
        FolderOf(NamedPlace.Downloads, elin).ShouldBe($"{elin.Home}/in/box");
        // The home itself means that there is none of its own.
        FolderOf(NamedPlace.Documents, elin).ShouldBe($"{elin.Home}/Documents");
        FolderOf(NamedPlace.Desktop, Person("nobody-said")).ShouldEndWith("/nobody-said/Desktop");
        var whole = Person("whole");
        File.WriteAllText(Path.Combine(whole.Home, ".config/user-dirs.dirs"), $"XDG_DESKTOP_DIR=\"{whole.Home}/Top\"\n");
        FolderOf(NamedPlace.Desktop, whole).ShouldBe($"{whole.Home}/Top");
    }

    [Theory]
    [InlineData("/etc")]
    [InlineData("$HOME/../../etc")]
    [InlineData("$HOME/./x")]
    [InlineData("$(touch /tmp/x)")]
    [InlineData("")]
    public void Settings_that_lead_elsewhere_are_not_followed(string value) => FolderOf(NamedPlace.Desktop, Person("mallory", $"XDG_DESKTOP_DIR=\"{value}\"\n")).ShouldEndWith("/mallory/Desktop");

    [Fact]
    public void A_link_or_a_pipe_for_settings_is_not_read()
    {
        var (sly, stuck) = (Person("sly"), Person("stuck"));
        File.WriteAllText(homes.In("elsewhere"), "XDG_DESKTOP_DIR=\"$HOME/Elsewhere\"\n");
        File.CreateSymbolicLink(Path.Combine(sly.Home, ".config/user-dirs.dirs"), homes.In("elsewhere"));
        FolderOf(NamedPlace.Desktop, sly).ShouldEndWith("/sly/Desktop");
        using var made = System.Diagnostics.Process.Start("mkfifo", Path.Combine(stuck.Home, ".config/user-dirs.dirs"));
        made.WaitForExit();
        FolderOf(NamedPlace.Desktop, stuck).ShouldEndWith("/stuck/Desktop");
    }
}
