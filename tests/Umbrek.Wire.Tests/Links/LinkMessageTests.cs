using System.Collections;
using System.Reflection;
using System.Text.Json;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Tests;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Shell;

namespace Umbrek.Wire.Tests.Links;

public sealed class LinkMessageTests
{
    private static readonly CommandSpec Command = new()
    {
        Line = "df -h",
        Arguments = ["df"],
        Script = "df",
        Steps = [new RunbookStep("Look", "true", "bash", "By day.", [new StepCondition(ConditionKind.Exit, "Before", [3], "x")], true, 3, 10, 30)],
        Action = new HostAction
        {
            End = new EndProcesses(new ProcessChoice([new ProcessMark(7, 100, "tide")], "boot", "tide", "lp"), true, 3),
            Rank = new RankProcesses(new ProcessChoice([new ProcessMark(7, 100, "tide")], "boot", "tide", "lp"), 5),
            Find = new FindProcesses("tide"),
            Service = new ServiceWish("tide", ServiceAct.Reload),
            Power = new PowerWish(PowerAct.LogOut, 60, "the tide comes", "elin"),
            Wake = new WakeWish([new WakeTarget("quay-ticket-03", ["00:00:5e:00:53:03 198.51.100.3/24"])]),
            Deliver = new DeliverFiles(new string('a', 64), "labels", 3, 5, new FileName("Labels", [76]), NamedPlace.ProgramData, true, Existing.ReplaceOlder, true, 0x1a0, "kiosk", "adm", 2048),
        },
        Shell = "/bin/bash",
        WorkingDirectory = "/tmp",
        Environment = new Dictionary<string, string> { ["TIDE"] = "ebb" },
        Input = [1, 0],
        User = "nobody",
        Niceness = 5,
        TimeoutSeconds = 1.5,
        OutputLimitBytes = 10,
    };

    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, 123, TimeSpan.Zero);
    private static readonly Guid Id = Guid.Parse("01a20755-f119-7cdf-96db-925628507f7a");
    private static readonly FileName Name = new("caf\ufffd", [0x63, 0x61, 0x66, 0xe9]);
    private static readonly FileEntry Entry = new(Name, FileKind.Link, 1, 0x1ed, "root", "adm", Noon, "2-3-4", Name, FileKind.File);
    private static readonly JsonElement Value = JsonDocument.Parse("[\"192.0.2.7\",\"2001:db8::7\"]").RootElement;

    private static readonly ReleaseOffer Release = new(new ReleaseManifest("0.2.0", "linux-x64", 12, "ab"), [1, 2]);

    private static readonly ScanOrder Scan = new(Id, 1, 2, [22, 80], 100);

    private static readonly HostPolicy Policy = new([HostAct.Run, HostAct.ReadFiles], ConsentRule.Always, NoticeRule.Before, [HostAct.Run], 15, RecordRule.Screen, ["/srv"], true);

    private static readonly HostSide Side = new(Policy, new HostPolicyPart([HostAct.Run], ConsentRule.Always, NoticeRule.During, [HostAct.Power], 10, RecordRule.ScreenAndKeys, ["/home", "/srv"], true), "It can be changed by others.", true, "0a1b2c3d", Noon);

    private static readonly ProbeOrder Look = new("spool", "Spool is short", new Probe(ProbeKind.Script, "x", "echo queue=3", 30, 5, 10, ProbeAct.Script, "systemctl restart spool"));

    private static readonly ShellWish Wish = new()
    {
        BeginAs = Guid.CreateVersion7(),
        ShellId = Id,
        Seen = 3,
        Terminal = new TerminalSize(133, 41),
        TerminalType = "xterm-256color",
        User = "games",
        KeepSeconds = 5,
        IdleSeconds = 60,
        Command = Command,
    };

    /// <summary>One of each, every member filled.</summary>
    private static readonly object[] Messages =
    [
        new LinkChallenge(1, 1, [1, 2, 255], Noon),
        new LinkHello(1, Id, [9, 8], "0.1.0", "plover-log-01", Noon, [Id], "4c4c4544-0051-3010-8052-b9c04f4e3732", "9d1f", new UpdateReport("0.2.0", true, "it ended 3 times"), Side),
        new LinkWelcome(LinkRefusal.HostRetired, "It is retired.", "Plover, log", "Saltmarsh Ferry/Vessels/Plover", 15, Id, "token.key", Policy),
        Policy,
        Side,
        new FactReport([new Fact("network.addresses", Value, Noon)]),
        new SampleBatch([new Sample
        {
            At = Noon, ProcessorPercent = 1.5, Load1 = 0.1, Load5 = 0.2, Load15 = 0.3, MemoryTotalBytes = 4, MemoryAvailableBytes = 3,
            SwapTotalBytes = 2, SwapFreeBytes = 1, UptimeSeconds = 99, WaitingPercent = 0.5, StolenPercent = 0.1, DiskReadBytesPerSecond = 5, DiskWrittenBytesPerSecond = 6, TemperatureCelsius = 41.5, Processes = 212, IdleSeconds = 77, Cores = [1.5, 2],
            FileSystems = [new("/", "ext4", 10, 5, 4, 3.5)], Interfaces = [new("eth0", 1, 2, 0.5)],
        }], Noon),
        new WantedProbes([Look]),
        Look,
        new ProbeReport(Noon, [new ProbeResult("spool", ProbeState.Failed, "It is full.", [new ProbeFigure("queue", 104, Dimension.Count)], Noon, Noon)], [new ProbeEvent(Id, "spool", Noon, "Spool: It is full.")]),
        new ProbeTried(Id, new ProbeReading(ProbeState.Well, "It is short.", [new ProbeFigure("age", 25200, Dimension.Time)])),
        new LookOrder(Id, Look.Probe),
        new RunEventBatch([new RunEvent { RunId = Id, Sequence = 3, At = Noon, Kind = RunEventKind.Ended, Data = [0, 27, 200], Start = new(7, "root"), End = new(RunOutcome.TimedOut, 143, "late"), Step = new(2, StepState.LeftOut, 3, 4, "Nothing has failed.") }]),
        new RunOrder(Id, Id, Noon, Command, "Ines Okafor", new SealedOrder(Id, 3, "run", "{}", [1, 2]), "ticket"),
        new ChannelOrder(Id, Id, "shell", "ticket", "Ines Okafor", new ShellOrder(Id, Wish, new SealedOrder(Id, 1, "shell", "{}", [3])), new ViewOrder(new ViewWish(5), new SealedOrder(Id, 1, "run", "{}", [3])), new LogOrder(new LogWish(50, "/var/log/syslog", "cups", "paper", LogSeverity.Warning, Noon, Noon, true), new SealedOrder(Id, 1, "read-files", "{}", [3])), new FilesOrder(new FilesWish(true, true), new SealedOrder(Id, 1, "read-files", "{}", [3])), new DesktopOrder(new DesktopWish(true, ":0", 320), new SealedOrder(Id, 1, "control", "{}", [3]), true), "198.51.100.7", "The printer"),
        new DesktopWish(true, ":0", 320),
        new DesktopWord("A person is asked first.", "This host does not allow it.", new ScreenOpened(":0", "jo", true, true), "The screen has gone.", new DeskHold(true, 2, "It has none.", true, true), [new DesktopGuest("Tomasz Vail", true, true)], new DesktopHands(false, "Tomasz Vail", "Ines Okafor"), "till", new ScreenPerson("elin.marlow")),
        new DesktopAsk(true, HandsWish.Ask, true, true),
        Wish,
        new ShellWord(new TerminalSize(80, 24), ShellSignal.Interrupt, true, 7, true, new ShellOpened(Id, 12, "root", 7, 1, 2), 3, "It ends in a minute.", new RunEnd(RunOutcome.Exited, 1, "late"), "It is full.", true),
        new SessionEnd(Id, true),
        new ConsentReport(Id, "ines", "elin", true, 15, DeskDeed.Ended),
        new KeyReport(Id, "access-key", "The access key is wrong.", true),
        new FileReport(Id, Name, 2, 3, [4], 5, FileDeed.Move, "to /srv"),
        new FileAsk(
            Name, Name, Name, new FileRead(Name, 1, "2-3-4", 5), Name, true, new FileSearch(Name, "*.log", FileKind.File, 1, 2, Noon, Noon, "root", "ticket"), new FilePart(Name, "7-8"), new FileWrite(Name, 9, "7-8", 1, true, "2-3-4", true, 0x1a4, "kiosk", "kiosk", Noon, "2-3-4"), 5, new FileEnd([3]),
            new FileChange(Name, new FileLink(Name, Name), new FileMove(Name, Name), Name, Name, "1:a", "1:b", new FileSetting(Name, 0x1a4, "kiosk", "kiosk", Noon, true), new FilePack([Name], Name), new FileUnpack(Name, Name, Existing.Rename, true)), Name, new FileBlocks(Name, 4096, 7), new FileDelta(Name, 4096, 7, 90_000), new FileSpan(5, 6)),
        new FileWord([Entry], Entry, 1, 2, [3], true, "It is a pipe.", Name, true, "This host does not allow its files to be read.", "A person is asked first.", [new TrashItem("1:a", Name, Noon, Entry)], 7, true, new FileSpan(5, 6)),
        new RunCancel(Id, "Ines Okafor"),
        new RunsKept([new RunKept(Id, long.MaxValue)]),
        new SamplesKept(Noon),
        new RunHeld(Id, "full"),
        new LinkGoodbye(AwayReason.HostShuttingDown),
        new HostRequest(HostRequest.Update, Release, Scan, new LookOrder(Id, Look.Probe), Id, new SecretTyping([Id], "till", "seven gulls", true)),
        Scan,
        new ScanReport(Id, 7, true, "cancelled", [new ScanAnswer("198.51.100.7", "00:00:5e:00:53:07", "quay-printer", [9100])]),
        Release,
        new UpdateReport("0.2.0", true, "it ended 3 times"),
        new HostAnswer("no", [new ShellInfo(Id, Id, "Ines Okafor", "login shell", "root", Noon, true, true)], [new ScreenInfo(":0", "jo", "It runs Wayland.", true)]),
    ];

    [Fact]
    public void Every_message_type_of_the_protocol_has_an_example()
    {
        var known = Messages.Select(m => m.GetType()).ToHashSet();
        var parts = new[] { typeof(RunKept), typeof(ScanAnswer), typeof(SecretTyping) };
        var missing = typeof(LinkHello).Assembly.GetTypes()
            .Where(t => t.Namespace == typeof(LinkHello).Namespace && t.IsClass && t.GetMethod("<Clone>$") is not null && !known.Contains(t) && !parts.Contains(t));
        missing.ShouldBeEmpty();
    }

    [Fact]
    public void Examples_leave_no_member_empty()
    {
        foreach (var message in Messages)
        {
            AssertFilled(message, message.GetType().Name);
        }
    }

    [Fact]
    public async Task The_published_agent_understands_every_message()
    {
        // A type that the native program's serializer does not know fails only when it runs; so it is run.
        var lines = Messages.Select(m => $"{m.GetType().Name} {JsonSerializer.Serialize(m, m.GetType(), WireJson.Default)}").ToList();
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek-agent", ["wire"], string.Join('\n', lines) + "\n");
        status.ShouldBe(0, stderr);
        stdout.Split('\n', StringSplitOptions.RemoveEmptyEntries).ShouldBe(lines.Select(l => l[(l.IndexOf(' ') + 1)..]));
    }

    [Fact]
    public void Words_and_names_on_the_wire_are_the_documented_ones()
    {
        var json = JsonSerializer.Serialize(new LinkGoodbye(AwayReason.HostShuttingDown), WireJson.Default.LinkGoodbye);
        json.ShouldBe("""{"reason":"host-shutting-down"}""");
        JsonSerializer.Serialize(new RunHeld(Id, null), WireJson.Default.RunHeld).ShouldBe($$"""{"runId":"{{Id}}"}""");
        Should.Throw<JsonException>(() => JsonSerializer.Deserialize("""{"reason":2}""", WireJson.Default.LinkGoodbye));
    }

    [Fact]
    public void The_largest_piece_of_output_fits_into_a_message()
    {
        var batch = new RunEventBatch([new RunEvent { RunId = Id, Sequence = long.MaxValue, At = Noon, Kind = RunEventKind.Stdout, Data = new byte[RunEvent.MaxDataBytes] }]);
        JsonSerializer.SerializeToUtf8Bytes(batch, WireJson.Default.RunEventBatch).Length.ShouldBeLessThan(LinkProtocol.MaxMessageBytes - 200);
        var order = new RunOrder(Id, Id, Noon, new CommandSpec { Line = new string('é', CommandSpec.MaxTextBytes / 2) }, new string('x', 120));
        order.Command.Check().ShouldBeNull();
    }

    private static void AssertFilled(object part, string path)
    {
        foreach (var property in part.GetType().GetProperties(BindingFlags.Public | BindingFlags.Instance).Where(p => p.GetIndexParameters().Length == 0 && !p.IsDefined(typeof(System.Text.Json.Serialization.JsonIgnoreAttribute))))
        {
            var value = property.GetValue(part).ShouldNotBeNull($"{path}.{property.Name}");
            if (value is IEnumerable items and not string)
            {
                items.Cast<object>().ShouldNotBeEmpty($"{path}.{property.Name}");
            }
            if (value.GetType().Namespace?.StartsWith("Umbrek", StringComparison.Ordinal) == true && value.GetType().IsClass)
            {
                AssertFilled(value, $"{path}.{property.Name}");
            }
        }
    }

    [Theory]
    [InlineData("""{"line":"true"}""")]
    [InlineData("{}")]
    public void What_was_sealed_as_a_command_is_no_look_at_what_runs(string text) =>
        Should.Throw<JsonException>(() => JsonSerializer.Deserialize(text, LinkJson.Default.ViewWish));
}
