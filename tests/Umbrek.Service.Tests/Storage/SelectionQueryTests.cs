using System.Text.Json;
using CsCheck;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Tests;

namespace Umbrek.Service.Tests.Storage;

/// <summary>A selection names the same hosts whether the database or the memory is asked, over random estates.</summary>
public abstract class SelectionQueryTests : DatabaseTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, 250, TimeSpan.Zero);
    private static readonly string[] Names = ["a", "quay-ticket-01", "Quay-Ticket-02", "two words", "q\"u\\ote", "ä,ö", "Ä,Ö", "100%", "under_score", "underXscore", "kiosk-🧀", "kiosk-1", "ÉLIN", "elin.marlow", "ben.tarrant"];
    private static readonly string[] Groups = ["Saltmarsh Ferry", "Saltmarsh Ferry/Quay", "Saltmarsh Ferry/Quay/Office", "Saltmarsh Ferrymen", "Copperbeech Libraries/Marl", "100%_/a", "100%_/ab", "100x_/a"];
    private static readonly string[] Versions = ["0.1.0", "0.9", "0.9.2", "0.10.0", "0.10.0-rc.1"];

    [Theory]
    [InlineData(1)]
    [InlineData(20)]
    [InlineData(300)]
    public async Task The_database_and_the_memory_name_the_same_hosts(int seed)
    {
        var hosts = await FillAsync(new Random(seed));
        await using var db = Database.Open();
        await db.Database.OpenConnectionAsync();
        SelectionGen.Trees(saved: false).Sample(
            selection =>
            {
                using var command = db.Database.GetDbConnection().CreateCommand();
                SelectionSql.Write(command, selection, Database.Dialect, Versions, Noon);
                var found = new HashSet<Guid>();
                using (var reader = command.ExecuteReader())
                {
                    while (reader.Read())
                    {
                        found.Add(reader.GetValue(0) is byte[] bytes ? new Guid(bytes, true) : reader.GetGuid(0));
                    }
                }
                var expected = hosts.Where(h => (!h.Host.Retired || selection.MentionsRetired) && selection.Matches(h.Host, Noon)).Select(h => h.Id);
                found.ShouldBe(expected, ignoreOrder: true, $"{selection}");
            },
            iter: 400, threads: 1);
    }

    [Fact]
    public void Every_key_is_known_to_the_database()
    {
        using var db = Database.Open();
        foreach (var key in SelectionKey.All)
        {
            using var command = db.Database.GetDbConnection().CreateCommand();
            Selection selection = key.IsText
                ? new Selection.Like(key, "x*")
                : new Selection.Compared(key, Relation.Below, new Quantity(1, QuantityUnit.All.FirstOrDefault(u => u.Dimension == key.Dimensions[0]) ?? QuantityUnit.None));
            Should.NotThrow(() => SelectionSql.Write(command, selection, Database.Dialect, [], Noon), key.Name);
        }
    }

    private async Task<List<(Guid Id, SelectableHost Host)>> FillAsync(Random random)
    {
        T Pick<T>(IReadOnlyList<T> from) => from[random.Next(from.Count)];
        await using var db = Database.Open();
        var groups = new Dictionary<string, GroupRow>();
        foreach (var path in Groups)
        {
            GroupRow? parent = null;
            var names = GroupPath.Split(path);
            for (var depth = 1; depth <= names.Length; depth++)
            {
                var at = GroupPath.Join(names.Take(depth));
                if (!groups.TryGetValue(at, out var group))
                {
                    groups[at] = group = new GroupRow { Id = Guid.CreateVersion7(), ParentId = parent?.Id, Name = names[depth - 1], Path = at, PathKey = Wildcard.Fold(at), CreatedAt = Noon };
                    db.Groups.Add(group);
                }
                parent = group;
            }
        }
        await db.SaveChangesAsync();
        OwnField[] fields = [new("Desk", OwnFieldKind.Number, []), new("Contract ends", OwnFieldKind.Date, []), new("Shelf", OwnFieldKind.Text, [])];
        var fieldRows = groups.Values.Where(g => g.ParentId is null).SelectMany(g => fields.Select(f => new OwnFieldRow { Id = Guid.CreateVersion7(), CustomerId = g.Id, Name = f.Name, NameKey = Wildcard.Fold(f.Name), Kind = f.Kind })).ToList();
        db.OwnFields.AddRange(fieldRows);
        await db.SaveChangesAsync();

        var hosts = new List<(Guid, SelectableHost)>();
        var batch = new BulkBatch();
        for (var i = 0; i < 60; i++)
        {
            var id = Guid.CreateVersion7();
            var group = Pick([.. groups.Values]);
            var presence = Pick(Enum.GetValues<PresenceState>());
            var host = new SelectableHost(Pick(Names), Pick(Names), group.Path, presence)
            {
                LastSeenAt = Noon.AddSeconds(-random.Next(0, 10_000_000)),
                EnrolledAt = Noon.AddSeconds(-random.Next(0, 10_000_000)),
                AgentVersion = Pick(Versions),
                Retired = random.Next(6) == 0,
                AwayFor = Pick(Enum.GetValues<AwayReason>()),
                StorageFullAt = random.Next(3) == 0 ? null : Noon.AddSeconds(random.Next(-100_000, 10_000_000)),
                Tags = [.. Enumerable.Range(0, random.Next(4)).Select(_ => Pick(Names)).DistinctBy(Wildcard.Fold)],
            };
            db.Hosts.Add(new HostRow
            {
                Id = id,
                GroupId = group.Id,
                SystemName = host.SystemName,
                Label = host.Label,
                PublicKey = id.ToByteArray(),
                EnrolledAt = host.EnrolledAt,
                AgentVersion = host.AgentVersion,
                LastSeenAt = host.LastSeenAt,
                Presence = presence,
                PresenceSince = Noon,
                PresenceReason = host.AwayFor,
                StorageFullAt = host.StorageFullAt,
                RetiredAt = host.Retired ? Noon : null,
                Version = 1,
            });
            db.HostTags.AddRange(host.Tags.Select(t => new HostTagRow { HostId = id, Key = Wildcard.Fold(t), Tag = t }));
            var own = fields.Where(_ => random.Next(2) == 0).Select(f => f.Read(f.Kind switch { OwnFieldKind.Number => $"{random.Next(40)}", OwnFieldKind.Date => $"2026-01-{random.Next(1, 28):00}", _ => Pick(Names) }, out _)!).ToList();
            db.OwnValues.AddRange(own.Select(o => new OwnValueRow
            {
                HostId = id,
                FieldId = fieldRows.First(f => f.Name == o.Field && GroupPath.Customer(group.Path) == groups.Values.First(g => g.Id == f.CustomerId).Name).Id,
                Text = o.Text,
                TextKey = Wildcard.Fold(o.Text),
                Number = o.Number,
                Day = o.Day?.DayNumber,
            }));
            var facts = new List<(string, IReadOnlyList<FactValue>)>();
            foreach (var (name, json) in RandomFacts(random))
            {
                using var value = JsonDocument.Parse(json);
                facts.Add((name, FactValues.Of(value.RootElement)));
                batch.Facts.Add((id, new Fact(name, value.RootElement.Clone(), Noon)));
            }
            Sample? sample = null;
            for (var s = random.Next(3); s > 0; s--)
            {
                sample = RandomSample(random, Noon.AddMinutes(-s));
                batch.Samples.Add((id, sample));
            }
            hosts.Add((id, host with { Own = own, Facts = facts, Health = sample is null ? null : EstateIndex.Figures(sample) }));
        }
        await db.SaveChangesAsync();
        await Database.Bulk.WriteAsync(batch, default);
        // Reported again as it was, and once otherwise: only what is true in the end may be found.
        var again = new BulkBatch();
        again.Facts.AddRange(batch.Facts);
        await Database.Bulk.WriteAsync(again, default);
        return hosts;
    }

    private static IEnumerable<(string Name, string Json)> RandomFacts(Random random)
    {
        string[] systems = ["\"Debian GNU/Linux 12\"", "\"debian\"", "\"Alpine\"", "\"12\"", "\"a\\u0000b\""];
        string[] people = ["[]", "[\"elin.marlow\"]", "[\"ÉLIN\",\"ben.tarrant\"]", "[\"\\ud800\"]"];
        if (random.Next(4) > 0)
        {
            yield return (FactNames.OsName, systems[random.Next(systems.Length)]);
        }
        if (random.Next(4) > 0)
        {
            yield return (FactNames.OsVersion, random.Next(2) == 0 ? "12" : "\"2026-01-12\"");
        }
        if (random.Next(4) > 0)
        {
            yield return (FactNames.Users, people[random.Next(people.Length)]);
        }
        if (random.Next(4) > 0)
        {
            yield return (FactNames.ProcessorCount, $"{random.Next(1, 40)}");
        }
        if (random.Next(3) == 0)
        {
            yield return (FactNames.ServicesFailed, random.Next(2) == 0 ? "[]" : "[\"a\",\"quay-ticket-01\"]");
        }
        foreach (var counted in new[] { FactNames.UpdatesPending, FactNames.UpdatesSecurity }.Where(_ => random.Next(3) == 0))
        {
            yield return (counted, $"{random.Next(0, 60)}");
        }
        if (random.Next(3) == 0)
        {
            yield return (FactNames.RestartNeeded, "\"all\"");
        }
    }

    private static Sample RandomSample(Random random, DateTimeOffset at) => new()
    {
        At = at,
        ProcessorPercent = random.Next(0, 1200) / 10.0,
        Load1 = random.Next(0, 120),
        MemoryTotalBytes = random.Next(4) == 0 ? 0 : random.Next(1, 120) * 1_000_000L,
        MemoryAvailableBytes = random.Next(0, 60) * 1_000_000L,
        SwapTotalBytes = random.Next(3) == 0 ? 0 : 100,
        SwapFreeBytes = random.Next(0, 100),
        TemperatureCelsius = random.Next(3) == 0 ? null : random.Next(20, 110),
        UptimeSeconds = random.Next(0, 10_000_000),
        FileSystems = random.Next(3) == 0 ? [] : [new FileSystemSample("/", "ext4", 100L << 30, random.Next(0, 100) * (1L << 30), random.Next(0, 120) * (1L << 30))],
    };
}

public sealed class SqliteSelectionQueryTests : SelectionQueryTests, IDisposable
{
    private readonly SqliteFile file = new();

    protected override IDatabase Open() => file.Open();

    public void Dispose() => file.Dispose();
}

public sealed class PostgresSelectionQueryTests(PostgresServer server) : SelectionQueryTests
{
    protected override IDatabase Open() => server.Open();
}
