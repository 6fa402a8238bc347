using System.Text;
using Umbrek.Core.Files;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Simulation.Tests.Files;

public sealed class SimulatedFilesTests
{
    private static readonly SimulatedHost Host = new("quay-ticket-03", "Saltmarsh Ferry/Quay/Ticketing", HostKind.Kiosk, 3);
    private readonly SimulatedDisk disk = new(Host, new SimulatedPlatform(Host, TimeProvider.System), TimeProvider.System);

    private SimulatedFiles Files => new(disk, null);

    private static FileName At(string path) => new(path);

    private string Read(string path)
    {
        using var source = Files.Open(At(path));
        var bytes = new byte[source.Entry.Bytes];
        source.Read(0, bytes).ShouldBe(bytes.Length);
        return Encoding.UTF8.GetString(bytes);
    }

    private FileEntry Write(string path, string text, Func<FileWrite, FileWrite>? more = null)
    {
        var bytes = Encoding.UTF8.GetBytes(text);
        var write = new FileWrite(At(path), bytes.Length, "1");
        using var sink = Files.Open(more?.Invoke(write) ?? write);
        sink.Cut(0);
        sink.Write(0, bytes);
        return sink.End();
    }

    [Fact]
    public void What_is_written_is_read_and_listed_and_stays_with_the_computer()
    {
        Write("/srv/board/new.txt", "one").Owner.ShouldBe("root");
        Read("/srv/board/new.txt").ShouldBe("one");
        Files.List(At("/srv/board")).Select(e => e.Name.Text).ShouldContain("new.txt");
        Should.Throw<IOException>(() => Write("/srv/board/new.txt", "two")).Message.ShouldContain("already");
        Write("/srv/board/new.txt", "two", w => w with { Replaces = true, KeepsOld = true });
        (Read("/srv/board/new.txt"), Files.Trash().Single().Entry.Bytes).ShouldBe(("two", 3));
        Should.Throw<IOException>(() => Write("/srv/board/new.txt", "three", w => w with { Replaces = true, Expects = "another" })).Message.ShouldContain("meanwhile");
        Should.Throw<IOException>(() => Write("/srv/none/new.txt", "x")).Message.ShouldContain("There is no");
        Should.Throw<IOException>(() => Write("/srv/board", "x", w => w with { Replaces = true })).Message.ShouldContain("is no file");
        Should.Throw<IOException>(() => Files.Open(new FileWrite(At("/srv/board/large"), 1 << 30, "1")).Skip(1 << 30)).Message.ShouldContain("no space left");
    }

    [Fact]
    public void A_link_is_gone_through_and_names_above_lead_up()
    {
        Files.Look(At("/srv/board/today.csv")).Bytes.ShouldBe(Files.Look(At("/etc/kiosk/timetable.csv")).Bytes);
        Files.PlaceOf(At("/srv/board/../board/today.csv")).Text.ShouldBe("/etc/kiosk/timetable.csv");
        Files.PlaceOf(At("/bin/kiosk")).Text.ShouldBe("/usr/bin/kiosk");
    }

    [Fact]
    public void Folders_move_with_all_below_and_come_back_out_of_the_trash()
    {
        Files.MakeFolder(At("/srv/new"));
        Files.MakeFolder(At("/srv/new"));
        Write("/srv/new/a", "a");
        Files.Move(At("/srv/new"), At("/srv/moved"));
        Read("/srv/moved/a").ShouldBe("a");
        Should.Throw<IOException>(() => Files.Move(At("/srv/moved"), At("/srv/moved/in"))).Message.ShouldContain("into itself");
        Should.Throw<IOException>(() => Files.Move(At("/srv/moved"), At("/srv/board"))).Message.ShouldContain("already");
        var item = Files.Delete(At("/srv/moved"));
        Should.Throw<IOException>(() => Files.Look(At("/srv/moved/a")));
        Files.Restore(item.Id).Text.ShouldBe("/srv/moved");
        Read("/srv/moved/a").ShouldBe("a");
        Files.Set(new FileSetting(At("/srv/moved"), Mode: 0x1c0, Owner: "kiosk", Deep: true)).Count().ShouldBe(2);
        Files.Look(At("/srv/moved/a")).Owner.ShouldBe("kiosk");
        Files.Erase(At("/srv/moved")).Count().ShouldBe(2);
        Should.Throw<IOException>(() => Files.Restore(item.Id)).Message.ShouldContain("Nothing in the trash");
    }

    [Fact]
    public void Technicians_are_let_into_some_folders_alone()
    {
        var some = new SimulatedFiles(disk, ["/srv"]);
        some.List(At("/")).Select(e => e.Name.Text).ShouldBe(["srv"]);
        some.Walk(At("/")).Select(f => f.Name.Text).ShouldContain("srv/board/index.html");
        foreach (var path in (string[])["/etc/hostname", "/srv/../etc/hostname", "/srv/board/today.csv"])
        {
            Should.Throw<IOException>(() => some.Open(At(path))).Message.ShouldContain("does not lie in what this host lets technicians into: /srv");
        }
        Should.Throw<IOException>(() => some.MakeFolder(At("/etc/new"))).Message.ShouldContain("does not lie in");
        var item = Files.Delete(At("/etc/hosts"));
        some.Trash().ShouldBeEmpty();
        Should.Throw<IOException>(() => some.Restore(item.Id));
    }

    [Fact]
    public void What_broke_off_is_gone_on_from_and_the_earlier_of_two_spoils_nothing()
    {
        var write = new FileWrite(At("/srv/file"), 4, "1");
        using var first = Files.Open(write);
        first.Write(0, "ab"u8.ToArray());
        Files.PartOf(new FilePart(write.Path, "1")).ShouldBe(2);
        using var later = Files.Open(write with { From = 2 });
        first.Write(2, "XX"u8.ToArray());
        later.Write(2, "cd"u8.ToArray());
        Should.Throw<IOException>(first.End).Message.ShouldContain("came later");
        first.Drop();
        later.End();
        Read("/srv/file").ShouldBe("abcd");
    }
}
