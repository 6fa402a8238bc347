using System.Diagnostics;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>Technicians are let into some folders alone.</summary>
public sealed class FileRootsTests : IAsyncLifetime
{
    private FileLine line = null!;

    public async ValueTask InitializeAsync()
    {
        line = await FileLine.OpenAsync();
        line.Run("mkdir -p in/deep other out; printf inside >in/file; printf secret >out/secret; ln -s ../out in/away; ln -s ../out/secret in/leak; ln -s file in/near; ln -s \"$PWD/in/file\" in/whole");
    }

    public ValueTask DisposeAsync() => line.DisposeAsync();

    private FileName At(string name) => line.At(name);

    private void Begin(bool changes) => line.Begin(changes, [line.Directory.In("in"), line.Directory.In("other")]);

    [Fact]
    public async Task Nothing_outside_is_seen_read_or_changed_whatever_leads_there()
    {
        Begin(changes: false);
        var read = await line.AskAsync(new FileAsk(Read: new FileRead(At("in/near"))));
        read.Words[^1].Problem.ShouldBeNull();
        foreach (var path in (string[])["out/secret", "in/../out/secret", "in/leak", "in/away/secret", "in/deep/../../out/secret", "in/whole", "inner"])
        {
            foreach (var ask in (FileAsk[])[new(Read: new FileRead(At(path))), new(Look: At(path))])
            {
                (await line.ProblemAsync(ask)).ShouldContain("does not lie in what this host lets technicians into");
            }
        }
        (await line.ProblemAsync(new FileAsk(List: At("in/away")))).ShouldContain("does not lie in");
        (await line.ProblemAsync(new FileAsk(Walk: At("out")))).ShouldContain("does not lie in");
        (await line.ProblemAsync(new FileAsk(Read: new FileRead(new FileName("/proc/self/root" + line.Directory.In("out/secret")))))).ShouldContain("does not lie in");
        (await line.AskAsync(new FileAsk(Walk: At("in")))).Words.SelectMany(w => w.Entries ?? []).Select(e => e.Name.Text).ShouldBe(["deep", "file", "away", "leak", "near", "whole"], ignoreOrder: true);

        Begin(changes: true);
        foreach (var change in (FileChange[])
        [
            new(Folder: At("out/new")), new(Folder: At("in/away/new")), new(Delete: At("out/secret")), new(Erase: At("in/away/secret")), new(Move: new FileMove(At("in/file"), At("out/file"))),
            new(Move: new FileMove(At("in/file"), At("in/away/file"))), new(Move: new FileMove(At("out/secret"), At("in/secret"))), new(Set: new FileSetting(At("in/leak"), Mode: 0x1ff)),
        ])
        {
            (await line.ChangeProblemAsync(change)).ShouldContain("does not lie in");
        }
        (await line.ChangeProblemAsync(new FileChange(Erase: At("in")))).ShouldContain("stays as it is");
        foreach (var path in (string[])["out/new", "in/away/new", "in/leak"])
        {
            (await line.SendAsync(new FileWrite(At(path), 1, "1", Replaces: true), new FileEnd([1]), (byte[])[1])).Words[^1].Problem.ShouldNotBeNull().ShouldContain("does not lie in");
        }
        File.ReadAllText(line.Directory.In("out/secret")).ShouldBe("secret");
        Directory.GetFileSystemEntries(line.Directory.In("out")).ShouldHaveSingleItem();
    }

    [Fact]
    public async Task The_root_of_all_is_seen_to_hold_just_the_folders()
    {
        Begin(changes: false);
        var top = (await line.AskAsync(new FileAsk(List: new FileName("/")))).Words[0].Entries!;
        top.Select(e => "/" + e.Name.Text).ShouldBe([line.Directory.In("in"), line.Directory.In("other")]);
        (await line.AskAsync(new FileAsk(Look: new FileName("/")))).Words[0].Entry!.Kind.ShouldBe(FileKind.Folder);
        (await line.AskAsync(new FileAsk(Walk: new FileName("/")))).Words.SelectMany(w => w.Entries ?? []).Select(e => "/" + e.Name.Text).ShouldContain(line.Directory.In("in/deep"));
        line.Begin(changes: false, []);
        (await line.AskAsync(new FileAsk(List: new FileName("/")))).Words[0].Entries!.ShouldBeEmpty();
        (await line.ProblemAsync(new FileAsk(Look: At("in")))).ShouldContain("no folder");
    }

    [Fact]
    public async Task What_was_deleted_elsewhere_is_not_in_their_trash()
    {
        line.Begin(changes: true);
        var item = (await line.AskAsync(new FileAsk(Change: new FileChange(Delete: At("out/secret"))))).Words[0].Trash![0];
        Begin(changes: true);
        await line.ChangeAsync(new FileChange(Delete: At("in/deep")));
        (await line.AskAsync(new FileAsk(Trash: true))).Words.SelectMany(w => w.Trash ?? []).Select(t => t.Path).ShouldBe([At("in/deep")]);
        (await line.ChangeProblemAsync(new FileChange(Restore: item.Id))).ShouldContain("Nothing in the trash");
        (await line.ChangeProblemAsync(new FileChange(Empty: item.Id))).ShouldContain("Nothing in the trash");
    }

    [Fact]
    public async Task A_link_that_changes_while_it_is_looked_at_leads_nowhere_else()
    {
        Begin(changes: false);
        // A folder and a link out of the folders change places as fast as they can.
        line.Run("mkdir in/turn; printf inside >in/turn/secret; ln -s ../out in/link");
        using var turning = Process.Start(new ProcessStartInfo("/usr/bin/python3", ["-c", """
            import ctypes, os, sys
            libc = ctypes.CDLL(None)
            print("on", flush=True)
            while True:
                libc.renameat2(-100, b"in/turn", -100, b"in/link", 2)
            """]) { WorkingDirectory = line.Directory.Path, RedirectStandardOutput = true })!;
        try
        {
            (await turning.StandardOutput.ReadLineAsync()).ShouldBe("on");
            var (inside, refused) = (0, 0);
            for (var tries = 0; tries < 100_000 && (inside < 200 || refused < 200); tries++)
            {
                var (words, data) = await line.AskAsync(new FileAsk(Read: new FileRead(At("in/turn/secret"))));
                if (words[^1].Problem is { } problem)
                {
                    problem.ShouldContain("does not lie in");
                    refused++;
                }
                else
                {
                    data.ShouldBe("inside"u8.ToArray());
                    inside++;
                }
            }
            (inside, refused).ShouldBe((Math.Max(200, inside), Math.Max(200, refused)));
        }
        finally
        {
            turning.Kill();
        }
    }
}
