using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Files;

public sealed class ParcelTests
{
    private static readonly DeliverFiles Wish = new(new string('a', 64), "kiosk.conf", 1, 5, new FileName("/etc/kiosk"));

    private static ParcelEntry File(string path, long bytes = 1) => new(new FileName(path), FileKind.File, bytes);

    private static ParcelEntry Folder(string path) => new(new FileName(path), FileKind.Folder);

    private static ParcelEntry Link(string path, string? target) => new(new FileName(path), FileKind.Link, Target: target is null ? null : new FileName(target));

    [Fact]
    public void A_parcel_is_whole_and_each_thing_is_below_what_was_named()
    {
        Parcel.Check([File("kiosk.conf"), Folder("labels"), Folder("labels/2026"), File("labels/2026/plum.pdf", 0), Link("labels/newest", "2026/plum.pdf")]).ShouldBeNull();
        Parcel.Check([new ParcelEntry(FileName.Of([0xe9, (byte)'\n']), FileKind.File)]).ShouldBeNull();
        Parcel.Check(null).ShouldNotBeNull();
        Parcel.Check([]).ShouldNotBeNull();
        foreach (var wrong in (string[])["", "/etc/passwd", "..", "../up", "a/../b", "a//b", "./a", "a/", "a\0b", new('n', 256)])
        {
            Parcel.Check([Folder("a"), File(wrong)]).ShouldNotBeNull(wrong);
        }
        Parcel.Check([File("a"), File("a")]).ShouldBe("'a' is there twice.");
        Parcel.Check([File("a/b")]).ShouldBe("The folder of 'a/b' has to come before it.");
        // What is below a link would come to lie where it leads.
        Parcel.Check([Link("a", "/etc"), File("a/passwd")]).ShouldBe("The folder of 'a/passwd' has to come before it.");
        Parcel.Check([File("a"), File("a/b")]).ShouldBe("The folder of 'a/b' has to come before it.");
        Parcel.Check([File("a", -1)]).ShouldNotBeNull();
        Parcel.Check([File("a", Parcel.MostBytes), File("b", Parcel.MostBytes)]).ShouldNotBeNull().ShouldContain("at most 4.00 TiB");
        Parcel.Check([File("a", long.MaxValue), File("b", long.MaxValue)]).ShouldNotBeNull();
        Parcel.Check([Link("a", null)]).ShouldNotBeNull();
        Parcel.Check([Link("a", "")]).ShouldNotBeNull();
        Parcel.Check([new ParcelEntry(new FileName("a"), FileKind.Device)]).ShouldNotBeNull().ShouldContain("nothing else is sent");
        Parcel.Check([File("a") with { Mode = 0x200 }]).ShouldNotBeNull();
        Parcel.Check([File("a") with { Sha256 = [1] }]).ShouldNotBeNull();
        Parcel.Check([null!]).ShouldNotBeNull();
        Parcel.Check([.. Enumerable.Range(0, Parcel.MostEntries + 1).Select(i => File($"{i}"))]).ShouldNotBeNull().ShouldContain("at most 200000");
    }

    [Fact]
    public void It_is_called_by_what_was_named()
    {
        Parcel.Name([File("kiosk.conf")]).ShouldBe("kiosk.conf");
        Parcel.Name([Folder("recipes"), File("recipes/plum"), Folder("labels")]).ShouldBe("recipes and labels");
        Parcel.Name([File("a"), File("b"), File("c")]).ShouldBe("a, b and c");
        Parcel.Name([File("a"), File("b"), File("c"), File("d"), File("e")]).ShouldBe("a, b and 3 more");
    }

    [Fact]
    public void Where_it_goes_is_a_whole_path_or_below_a_named_place()
    {
        Wish.Check().ShouldBeNull();
        (Wish with { Folder = null }).Check().ShouldNotBeNull().ShouldContain("Say where");
        (Wish with { Folder = new FileName("etc") }).Check().ShouldNotBeNull();
        (Wish with { Folder = null, Place = NamedPlace.Desktop }).Check().ShouldBeNull();
        (Wish with { Folder = new FileName("Timetables/2026"), Place = NamedPlace.Desktop }).Check().ShouldBeNull();
        foreach (var wrong in (string[])["/etc", "../.ssh", "a/../../b", "", "a//b"])
        {
            (Wish with { Folder = new FileName(wrong), Place = NamedPlace.Home }).Check().ShouldNotBeNull(wrong);
        }
        (Wish with { Place = (NamedPlace)99, Folder = null }).Check().ShouldNotBeNull();
    }

    [Fact]
    public void What_can_t_be_meant_is_said()
    {
        foreach (var wrong in (DeliverFiles[])
        [
            Wish with { Digest = "" }, Wish with { Digest = new string('A', 64) }, Wish with { Digest = null! }, Wish with { Name = "" }, Wish with { Name = new string('n', 401) }, Wish with { Files = -1 },
            Wish with { Bytes = -1 }, Wish with { Existing = (Existing)9 }, Wish with { Mode = 0x200 }, Wish with { Rate = 1023 }, Wish with { Owner = new string('o', 101) },
        ])
        {
            wrong.Check().ShouldNotBeNull(wrong.ToString());
            new CommandSpec { Action = new HostAction { Deliver = wrong } }.Check().ShouldNotBeNull();
        }
        (Wish with { Mode = 0x1ff, Rate = 1024, Existing = Existing.Rename, Owner = "kiosk", Group = "adm" }).Check().ShouldBeNull();
    }

    [Fact]
    public void It_is_an_act_on_files_and_reads_so()
    {
        var spec = new CommandSpec { Action = new HostAction { Deliver = Wish } };
        (spec.Act, spec.Needs, spec.Check(), spec.IsPlain).ShouldBe((HostAct.WriteFiles, Permission.WriteFiles, null, false));
        spec.Display().ShouldBe("put kiosk.conf (5 B) into /etc/kiosk");
        (Wish with { Name = "labels", Files = 12, Bytes = 4096, Folder = new FileName("Labels"), Place = NamedPlace.Desktop }).Display().ShouldBe("put labels (12 files, 4.00 KiB) into the desktop of whoever is logged in, Labels");
        (Wish with { Folder = null, Place = NamedPlace.Fonts }).Display().ShouldBe("put kiosk.conf (5 B) into the system's fonts");
        foreach (var place in Enum.GetValues<NamedPlace>())
        {
            NamedPlaces.Find(place.Word()).ShouldBe(place);
        }
        NamedPlaces.Find("program-data").ShouldBe(NamedPlace.ProgramData);
        NamedPlaces.Find("attic").ShouldBeNull();
    }
}
