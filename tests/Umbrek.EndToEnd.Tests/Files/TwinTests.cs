using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.EndToEnd.Tests.Files;

/// <summary>Folders of two hosts are kept in step, by the client and over two agents.</summary>
public sealed class TwinTests : IAsyncLifetime
{
    private const string First = "creamery-files";
    private const string Second = "creamery-office-03";

    private World world = null!;
    private TestPrograms firstAgent = null!;

    public async ValueTask InitializeAsync()
    {
        world = await World.StartAsync();
        firstAgent = await world.JoinAsync(First);
        await world.JoinAsync(Second);
        await world.SignInClientAsync();
        Directory.CreateDirectory(One);
        Directory.CreateDirectory(Two);
    }

    public ValueTask DisposeAsync() => world.DisposeAsync();

    private string One => world.In("one");

    private string Two => world.In("two");

    private async Task ShellAsync(string line)
    {
        var (status, stdout, stderr) = await TestPrograms.RunAsync("/bin/bash", ["-c", $"set -e; cd {world.In(".")}; {line}"]);
        status.ShouldBe(0, stdout + stderr);
    }

    private async Task<string> ClientAsync(int status, params string[] command)
    {
        var (ended, stdout, stderr) = await world.ClientAsync(null, ["twin", .. command]);
        ended.ShouldBe(status, stdout + stderr);
        return stdout + stderr;
    }

    private Task<string> MakeAsync(params string[] more) => ClientAsync(0, ["make", "recipes", "--first", $"{First}:{One}", "--second", $"{Second}:{Two}", .. more]);

    private async Task<TurnInfo> TurnAsync() => JsonSerializer.Deserialize(await ClientAsync(0, "show", "recipes", "--output", "json"), WireJson.Default.TwinInfo)!.Turn!;

    /// <summary>Both folders are alike to the last byte, mode and time.</summary>
    private Task AlikeAsync() => ShellAsync("""
        list() { cd $1; find . -mindepth 1 -printf '%P|%y|%s|%m|%T@|%l\n' | sed 's/|d|[0-9]*|/|d||/; s/\(|[0-9]*\.[0-9]\{7\}\)[0-9]*|/\1|/; s/|l|\([0-9]*\)|\([0-9]*\)|[0-9.]*|/|l|\1|\2||/' | sort; find . -type f -print0 | sort -z | xargs -0r sha256sum; cd ..; }
        diff <(list one) <(list two)
        """);

    [Fact]
    public async Task One_way_the_second_becomes_what_the_first_is()
    {
        await ShellAsync("""
            cd one; mkdir -p deep/er empty; head -c 3000000 /dev/urandom >deep/noise; printf 'ripening\n' >note; : >nothing; chmod 640 note; touch -d 2023-04-05T06:07:08.123Z note deep; ln -s ../note deep/link; ln -s nowhere astray
            truncate -s 20M hole; printf x >>hole; chmod 750 empty; touch $'caf\xe9' $'two\nlines'; for i in $(seq 400); do echo $i >deep/er/small-$i; done
            mkdir ../two/own; printf own >../two/own/file; printf other >../two/note
            """);
        (await MakeAsync()).ShouldContain($"{First}:{One} → {Second}:{Two}");
        var said = await ClientAsync(0, "turn", "recipes", "--dry-run");
        said.ShouldContain("done (dry run): ");
        said.ShouldContain("changed");
        Directory.GetFileSystemEntries(Two).Length.ShouldBe(2);

        said = await ClientAsync(0, "turn", "recipes");
        said.ShouldContain("411 things done");
        File.Exists(Path.Combine(Two, "own/file")).ShouldBeTrue();
        await ShellAsync("rm -r two/own; [ $(stat -c %b two/hole) -lt 1000 ]");
        await AlikeAsync();
        // What was changed on the second by somebody is not lost.
        (await world.ClientAsync(null, "file", "trash", Second)).Stdout.ShouldContain($"{Two}/note");

        said = await ClientAsync(0, "turn", "recipes");
        said.ShouldContain("done: 411 in step before");
        (await TurnAsync()).ActsDone.ShouldBe(0);
        (await world.ClientAsync(null, "audit", "list", "--action", "twin.turn-end")).Stdout.ShouldContain("recipes");
        (await world.ClientAsync(null, "audit", "list", "--action", "file.write")).Stdout.ShouldContain(Two);
        await ClientAsync(0, "remove", "recipes");
        Directory.GetFiles(Two).ShouldNotBeEmpty();
    }

    [Fact]
    public async Task One_way_what_is_gone_on_the_first_goes_to_the_trash_on_the_second()
    {
        await ShellAsync("mkdir -p one/a/b two/a/b; echo 1 >one/keep; for f in a/b/c a/d x; do echo 1 >one/$f; done; echo t >two/scratch.tmp; echo t >one/s.tmp");
        await MakeAsync("--take-away", "--leave", "*.tmp");
        await ClientAsync(0, "turn", "recipes");
        await ShellAsync("rm -r one/a one/x");
        (await ClientAsync(0, "turn", "recipes")).ShouldContain("to the trash");
        Directory.GetFileSystemEntries(Two).Select(Path.GetFileName).Order().ShouldBe(["keep", "scratch.tmp"]);
        (await world.ClientAsync(null, "file", "trash", Second)).Stdout.ShouldContain($"{Two}/a");

        // A folder that holds nothing any more is rather a disk that is missing.
        await ShellAsync("rm one/*");
        (await ClientAsync(1, "turn", "recipes")).ShouldContain("holds nothing now");
        File.Exists(Path.Combine(Two, "keep")).ShouldBeTrue();
        await ClientAsync(0, "turn", "recipes", "--though-empty");
        File.Exists(Path.Combine(Two, "keep")).ShouldBeFalse();
        await ShellAsync("rmdir one");
        (await ClientAsync(1, "turn", "recipes", "--though-empty")).ShouldContain($"There is no folder {One} on {First}");
    }

    [Fact]
    public async Task Both_ways_each_gets_what_the_other_has_and_conflicts_wait_for_somebody()
    {
        await ShellAsync("cd one; mkdir shared; echo 1 >shared/a; echo 1 >b; echo 1 >c; cp -p b ../two/same; cp b same; touch -d 2020-01-01 same; echo 2 >../two/d; mkdir ../two/more; echo 3 >../two/more/e");
        await MakeAsync("--both-ways");
        await ClientAsync(0, "turn", "recipes");
        // The same by what is in it, though not by its time.
        await ShellAsync("cmp one/same two/same; rm one/same two/same");
        await ClientAsync(0, "turn", "recipes");
        await AlikeAsync();

        await ShellAsync("echo first >one/b; sleep 0.01; echo second! >two/b; rm one/c; echo second >two/c; echo new >one/shared/a; rm two/d; mv two/more two/moved");
        var said = await ClientAsync(3, "turn", "recipes");
        said.ShouldContain("2 conflicts");
        said.ShouldContain("changed on both");
        said.ShouldContain("taken away from the first, changed on the second");
        await ShellAsync("[ $(cat one/b) = first ]; [ $(cat two/b) = second! ]; [ ! -e one/c ]; [ $(cat two/shared/a) = new ]; [ ! -e one/d ]; [ ! -e one/more ]; [ -e one/moved/e ]");

        await ClientAsync(3, "turn", "recipes", "--settle", "second", "--only", "c");
        await ShellAsync("[ $(cat one/c) = second ]; [ $(cat one/b) = first ]");
        await ClientAsync(0, "turn", "recipes", "--settle", "newer");
        await AlikeAsync();
        (await File.ReadAllTextAsync(Path.Combine(One, "b"))).ShouldBe("second!\n");
        (await world.ClientAsync(null, "file", "trash", First)).Stdout.ShouldContain($"{One}/b");
    }

    [Fact]
    public async Task Of_a_large_file_that_changed_little_little_is_sent()
    {
        await ShellAsync("head -c 100000000 /dev/urandom >one/disk; cp -p one/disk two/disk; touch -d 2020-01-01 two/disk");
        await MakeAsync();
        await ClientAsync(0, "turn", "recipes");
        (await TurnAsync()).BytesMoved.ShouldBeLessThan(1_000_000);
        await ShellAsync("head -c 100000 /dev/urandom | dd of=one/disk bs=1000 seek=50000 conv=notrunc status=none; printf 'some more' >>one/disk; sed -i '1s/^/x/' one/disk");
        await ClientAsync(0, "turn", "recipes");
        await AlikeAsync();
        var turn = await TurnAsync();
        turn.BytesDone.ShouldBe(100_000_010);
        turn.BytesMoved.ShouldBeLessThan(2_000_000);
        Directory.GetFileSystemEntries(Two).Length.ShouldBe(1);
    }

    [Fact]
    public async Task A_turn_goes_on_when_a_host_comes_back()
    {
        await File.WriteAllBytesAsync(Path.Combine(One, "large"), RandomNumberGenerator.GetBytes(16_000_000));
        await ShellAsync("for i in $(seq 50); do echo $i >one/$i; done");
        await MakeAsync("--rate", "4MiB");
        await ClientAsync(0, "turn", "recipes", "--no-wait");
        await PartAsync();
        await firstAgent.KillAsync();
        world.StartAgent(First);
        await Wait.UntilAsync(async () => (await TurnAsync()).EndedAt is not null, "the turn to end", 60);
        (await TurnAsync()).State.ShouldBe(TurnState.Done);
        await AlikeAsync();
        (await TurnAsync()).BytesMoved.ShouldBeLessThan(38_000_000);
    }

    [Fact]
    public async Task A_turn_that_the_service_took_down_with_it_is_told_of_and_another_goes_on()
    {
        await world.TakeOwnProcessAsync();
        await File.WriteAllBytesAsync(Path.Combine(One, "large"), RandomNumberGenerator.GetBytes(16_000_000));
        await MakeAsync("--rate", "4MiB");
        await ClientAsync(0, "turn", "recipes", "--no-wait");
        await PartAsync();
        await world.Service.KillAsync();
        await world.StartServiceAsync();
        await world.UntilAsync(First, "linked");
        await world.UntilAsync(Second, "linked");
        (await ClientAsync(0, "show", "recipes")).ShouldContain("interrupted");
        await ClientAsync(0, "turn", "recipes");
        await AlikeAsync();
        // Over two lines; what was there by then did not go over them again.
        (await TurnAsync()).BytesMoved.ShouldBeLessThan(27_000_000);
    }

    [Fact]
    public async Task A_turn_is_cancelled_and_what_was_done_stays()
    {
        await File.WriteAllBytesAsync(Path.Combine(One, "large"), RandomNumberGenerator.GetBytes(16_000_000));
        await MakeAsync("--rate", "1MiB");
        (await ClientAsync(1, "cancel", "recipes")).ShouldContain("No turn of 'recipes' goes on.");
        await ClientAsync(0, "turn", "recipes", "--no-wait");
        await PartAsync();
        (await ClientAsync(1, "turn", "recipes")).ShouldContain("goes on already");
        (await ClientAsync(1, "remove", "recipes")).ShouldContain("cancel it first");
        (await ClientAsync(0, "cancel", "recipes")).ShouldContain("cancelled");
        (await TurnAsync()).Reason.ShouldBe($"cancelled by {World.Name}");
        await Wait.UntilAsync(async () => (await world.ClientAsync(null, "session", "list", "--open", "--output", "csv")).Stdout.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length <= 1, "both sessions to end");
    }

    [Fact]
    public async Task Whoever_asks_for_what_cannot_be_is_told_what_to_do()
    {
        (await ClientAsync(2, "make", "a", "--first", One, "--second", $"{Second}:{Two}")).ShouldContain("write HOST:PATH");
        (await ClientAsync(2, "make", "a", "--first", $"{First}:one", "--second", $"{Second}:{Two}")).ShouldContain("whole path");
        (await ClientAsync(4, "make", "a", "--first", $"nobody:{One}", "--second", $"{Second}:{Two}")).ShouldContain("nobody");
        (await ClientAsync(1, "make", "a", "--first", $"{First}:{One}", "--second", $"{First}:{One}/deeper")).ShouldContain("lies in the other");
        (await ClientAsync(2, "make", "a", "--first", $"{First}:{One}", "--second", $"{Second}:{Two}", "--both-ways", "--take-away")).ShouldContain("leave out --take-away");
        (await ClientAsync(1, "make", "a", "--first", $"{First}:{One}", "--second", $"{Second}:{Two}", "--leave", "/tmp")).ShouldContain("names nothing below");
        (await ClientAsync(1, "turn", "recipes")).ShouldContain("You have no twin 'recipes'");
        await MakeAsync();
        (await ClientAsync(1, "make", "recipes", "--first", $"{First}:{One}", "--second", $"{Second}:{Two}")).ShouldContain("already");
        (await ClientAsync(2, "turn", "recipes", "--only", "a")).ShouldContain("--settle");
        await ShellAsync("rmdir two; echo no >two; echo 1 >one/file");
        (await ClientAsync(1, "turn", "recipes")).ShouldContain("is no folder");
        await ShellAsync("rm two; mkfifo one/pipe; mkdir -p one/locked; echo 1 >one/locked/in");
        // The second folder is made; what is no file is told of.
        var said = await ClientAsync(0, "turn", "recipes");
        said.ShouldContain("neither file, folder nor link");
        File.Exists(Path.Combine(Two, "file")).ShouldBeTrue();
        (await world.ClientAsync(null, "twin", "list", "--output", "csv")).Stdout.ShouldContain("recipes");
    }

    [Fact]
    public async Task A_folder_is_kept_on_a_shelf_of_the_service_and_comes_back_to_another_host()
    {
        async Task<string> ShelfAsync(int status, params string[] command)
        {
            var (ended, stdout, stderr) = await world.ClientAsync(null, ["shelf", .. command]);
            ended.ShouldBe(status, stdout + stderr);
            return stdout + stderr;
        }
        await ShellAsync("""
            cd one; mkdir -p deep/er empty; head -c 3000000 /dev/urandom >deep/noise; printf 'ripening\n' >note; : >nothing; chmod 640 note; touch -d 2023-04-05T06:07:08.123Z note deep; ln -s ../note deep/link
            truncate -s 20M hole; printf x >>hole; chmod 750 empty; touch $'caf\xe9' $'two\nlines'; for i in $(seq 400); do echo $i >deep/er/small-$i; done
            """);
        (await ShelfAsync(0, "list")).ShouldContain("There are no shelves");
        (await ShelfAsync(0, "make", "recipes", World.Group)).ShouldContain("--second shelf=recipes");
        (await ShelfAsync(1, "make", "recipes", World.Group)).ShouldContain("already");
        (await ClientAsync(0, "make", "keep", "--first", $"{First}:{One}", "--second", "shelf=recipes:/cheese", "--take-away")).ShouldContain("→ shelf=recipes:/cheese");
        (await ClientAsync(0, "turn", "keep")).ShouldContain("410 things done");
        (await ClientAsync(0, "turn", "keep")).ShouldContain("done: 410 in step before");
        (await ShelfAsync(0, "look", "recipes", "/cheese")).ShouldContain("note");
        (await ShelfAsync(0, "list")).ShouldContain("406");

        // What changed little costs little, the other way as well.
        await ShellAsync("printf y | dd of=one/deep/noise bs=1 seek=1500000 conv=notrunc status=none; rm one/nothing");
        await ClientAsync(0, "turn", "keep");
        var turn = JsonSerializer.Deserialize(await ClientAsync(0, "show", "keep", "--output", "json"), WireJson.Default.TwinInfo)!.Turn!;
        turn.ActsDone.ShouldBe(2);
        turn.BytesMoved.ShouldBeLessThan(300_000);

        await ClientAsync(0, "make", "bring", "--first", "shelf=recipes:/cheese", "--second", $"{Second}:{Two}");
        await ClientAsync(0, "turn", "bring");
        await AlikeAsync();
        await ShellAsync("[ $(stat -c %b two/hole) -lt 1000 ]");

        await ShelfAsync(0, "save", "recipes", "/cheese/note", world.In("note-here"));
        (await File.ReadAllTextAsync(world.In("note-here"))).ShouldBe("ripening\n");
        (await ShelfAsync(2, "save", "recipes", "/cheese/note", world.In("note-here"))).ShouldContain("exists");
        (await ShelfAsync(1, "save", "recipes", "/cheese/no", world.In("no"))).ShouldContain("/cheese/no");
        (await ShelfAsync(1, "look", "recipes", "/../..")).ShouldContain("whole path");
        (await ShelfAsync(1, "look", "sauces")).ShouldContain("There is no shelf 'sauces'");
        (await ClientAsync(1, "make", "odd", "--first", "shelf=recipes:/a", "--second", "shelf=recipes:/b")).ShouldContain("has to be a host's");
        await ShelfAsync(0, "remove", "recipes", "--yes");
        (await ClientAsync(1, "turn", "keep")).ShouldContain("no such shelf");
    }

    [Fact]
    public async Task A_turn_onto_a_shelf_goes_on_where_the_service_went_down()
    {
        await world.TakeOwnProcessAsync();
        await File.WriteAllBytesAsync(Path.Combine(One, "large"), RandomNumberGenerator.GetBytes(16_000_000));
        (await world.ClientAsync(null, "shelf", "make", "kept", World.Group)).Status.ShouldBe(0);
        await ClientAsync(0, "make", "recipes", "--first", $"{First}:{One}", "--second", "shelf=kept", "--rate", "4MiB");
        await ClientAsync(0, "turn", "recipes", "--no-wait");
        var shelves = world.In("service/shelves");
        await Wait.UntilAsync(() => Directory.Exists(shelves) && Directory.GetFiles(shelves, ".large.*.part", new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = FileAttributes.None }) is [var part] && new FileInfo(part).Length > 3_000_000, "a part to come", 60);
        await world.Service.KillAsync();
        await world.StartServiceAsync();
        await world.UntilAsync(First, "linked");
        await ClientAsync(0, "turn", "recipes");
        var turn = await TurnAsync();
        (turn.State, turn.BytesDone).ShouldBe((TurnState.Done, 16_000_000));
        // Over the host's line and to the shelf; what was there by then did not go again.
        turn.BytesMoved.ShouldBeLessThan(27_000_000);
        var kept = Directory.GetFiles(shelves, "*large*", new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = FileAttributes.None }).ShouldHaveSingleItem();
        (await File.ReadAllBytesAsync(kept)).ShouldBe(await File.ReadAllBytesAsync(Path.Combine(One, "large")));
    }

    /// <summary>Some of the large file has come.</summary>
    private Task PartAsync() => Wait.UntilAsync(() => Directory.GetFiles(Two, ".large.*.part") is [var part] && new FileInfo(part).Length > 3_000_000, "a part to come", 60);
}
