using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Audit;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Service.Audit;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Tests.Storage;

/// <summary>What every database must do alike.</summary>
public abstract class StorageTests : DatabaseTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, 250, TimeSpan.Zero);

    [Fact]
    public async Task Migrations_can_be_applied_again_and_leave_nothing_pending()
    {
        await using var db = Database.Open();
        await db.Database.MigrateAsync();
        (await db.Database.GetPendingMigrationsAsync()).ShouldBeEmpty();
        db.Database.HasPendingModelChanges().ShouldBeFalse("make a migration: dotnet ef migrations add");
    }

    [Fact]
    public async Task A_batch_is_written_whole_and_read_back()
    {
        var host = await AddHostAsync();
        var (job, run) = NewJob(host);
        var batch = new BulkBatch();
        batch.Jobs.Add((job, [run]));
        batch.Samples.Add((host, SampleAt(Noon, 12.5)));
        batch.Facts.Add((host, FactOf("os.name", "\"Debian\"")));
        batch.Presences.Add(new PresenceChange(host, new Presence(PresenceState.Linked, AwayReason.None, Noon), Noon, "9.9", "renamed", "192.0.2.9"));
        await Database.Bulk.WriteAsync(batch, default);

        await using var db = Database.Open();
        var row = await db.Hosts.SingleAsync();
        (row.Presence, row.PresenceSince, row.AgentVersion, row.SystemName, row.Address).ShouldBe((PresenceState.Linked, Noon, "9.9", "renamed", "192.0.2.9"));
        (await db.Samples.SingleAsync()).ProcessorPercent.ShouldBe(12.5);
        (await db.Facts.SingleAsync()).Value.ShouldBe("\"Debian\"");
        (await db.Runs.SingleAsync()).ToStatus().ShouldBe(new RunStatus(RunState.Waiting));
        (await db.Jobs.SingleAsync()).CreatedAt.ShouldBe(Noon);
    }

    [Fact]
    public async Task What_is_delivered_again_is_kept_once()
    {
        var host = await AddHostAsync();
        var (job, run) = NewJob(host);
        var first = new BulkBatch();
        first.Jobs.Add((job, [run]));
        await Database.Bulk.WriteAsync(first, default);
        for (var i = 0; i < 2; i++)
        {
            var batch = new BulkBatch();
            batch.Samples.Add((host, SampleAt(Noon, 10 + i)));
            batch.Facts.Add((host, FactOf("os.kernel", $"\"{i}\"")));
            batch.Facts.Add((host, FactOf("os.kernel", $"\"{i}b\"")));
            batch.Output.Add(new RunOutputRow { RunId = run.Id, Sequence = 2, Stream = RunEventKind.Stdout, Data = [0, 255, (byte)i] });
            batch.Runs[run.Id] = new RunMark(job.Id, host, new RunStatus(RunState.Running, Noon, Noon, LastSequence: 2, StdoutBytes: 3, User: "root"), null);
            await Database.Bulk.WriteAsync(batch, default);
        }
        await using var db = Database.Open();
        (await db.Samples.SingleAsync()).ProcessorPercent.ShouldBe(10);
        (await db.Facts.SingleAsync()).Value.ShouldBe("\"1b\"");
        (await db.RunOutput.SingleAsync()).Data.ShouldBe([0, 255, 0]);
        (await db.Runs.SingleAsync()).ToStatus().ShouldBe(new RunStatus(RunState.Running, Noon, Noon, null, null, null, "root", 2, 3));
    }

    [Fact]
    public async Task What_an_older_version_wrote_is_filled_in_from_the_whole_sample()
    {
        var host = await AddHostAsync();
        var batch = new BulkBatch();
        batch.Samples.Add((host, SampleAt(Noon, 10)));
        batch.Samples.Add((host, SampleAt(Noon.AddSeconds(15), 11)));
        await Database.Bulk.WriteAsync(batch, default);
        await using var db = Database.Open();
        await db.Samples.ExecuteUpdateAsync(u => u.SetProperty(s => s.MemoryTotalBytes, 0).SetProperty(s => s.MemoryFreeBytes, 0).SetProperty(s => s.UptimeSeconds, 0));
        await Backfill.RunAsync(db, default);

        await using var after = Database.Open();
        var latest = await after.Samples.OrderByDescending(s => s.At).FirstAsync();
        var whole = SampleAt(Noon.AddSeconds(15), 11);
        (latest.MemoryTotalBytes, latest.MemoryFreeBytes, latest.UptimeSeconds).ShouldBe((whole.MemoryTotalBytes, whole.MemoryAvailableBytes, whole.UptimeSeconds));
        whole.MemoryTotalBytes.ShouldBeGreaterThan(0);
    }

    [Fact]
    public async Task Lines_of_the_audit_log_go_on_with_the_chain_from_wherever_they_are_written()
    {
        var log = new AuditLog(Database, TimeProvider.System);
        var by = new Caller("Ines Okafor", "192.0.2.7");
        var batch = new BulkBatch();
        batch.Audit.Add(log.Line(by, "job.create", "quay-*", ("hosts", "3")));
        batch.Audit.Add(log.Line(Caller.Service, "job.cancel", "quay-*", ("why", null)));
        await Database.Bulk.WriteAsync(batch, default);
        await log.AddAsync(by, "group.create", "Saltmarsh Ferry", default);
        await Database.Bulk.WriteAsync(batch, default);

        var verifier = new AuditVerifier();
        await foreach (var line in log.ReadAsync(new AuditFilter(), default))
        {
            verifier.Take(new AuditEntry(line.Number, line.At, line.Actor, line.Address, line.Action, line.Target, line.Detail), Convert.FromHexString(line.Hash));
        }
        (verifier.Lines, verifier.Findings.Count).ShouldBe((5, 0));
        (await log.LastNumberAsync(default)).ShouldBe(5);
        (await log.ListAsync(new AuditFilter(Actor: "OKAFOR", Target: "QUAY"), null, null, default)).Total.ShouldBe(2);
        (await log.ListAsync(new AuditFilter(Target: "quay_*"), null, null, default)).Total.ShouldBe(0);
    }

    [Fact]
    public async Task A_batch_that_fails_leaves_nothing_behind()
    {
        var host = await AddHostAsync();
        var (job, run) = NewJob(host);
        var batch = new BulkBatch();
        batch.Jobs.Add((job, [run, run]));
        batch.Samples.Add((host, SampleAt(Noon, 1)));
        await Should.ThrowAsync<System.Data.Common.DbException>(() => Database.Bulk.WriteAsync(batch, default));
        await using var db = Database.Open();
        (await db.Jobs.CountAsync()).ShouldBe(0);
        (await db.Samples.CountAsync()).ShouldBe(0);
        var again = new BulkBatch();
        again.Samples.Add((host, SampleAt(Noon, 1)));
        await Database.Bulk.WriteAsync(again, default);
        (await db.Samples.CountAsync()).ShouldBe(1);
    }

    [Fact]
    public async Task Times_compare_and_sort_in_the_database()
    {
        var host = await AddHostAsync();
        var batch = new BulkBatch();
        for (var i = 0; i < 10; i++)
        {
            batch.Samples.Add((host, SampleAt(Noon.AddSeconds(15 * i), i)));
        }
        await Database.Bulk.WriteAsync(batch, default);
        await using var db = Database.Open();
        var from = Noon.AddSeconds(30);
        (await db.Samples.Where(s => s.HostId == host && s.At >= from && s.At < from.AddMinutes(1)).OrderByDescending(s => s.At).Select(s => s.ProcessorPercent).ToListAsync())
            .ShouldBe([5, 4, 3, 2]);
        (await db.Samples.Where(s => s.At < from).ExecuteDeleteAsync()).ShouldBe(2);
    }

    [Fact]
    public async Task Two_groups_of_one_path_cannot_be()
    {
        await AddHostAsync();
        await using var db = Database.Open();
        db.Groups.Add(new GroupRow { Id = Guid.CreateVersion7(), Name = "saltmarsh ferry", Path = "saltmarsh ferry", PathKey = "SALTMARSH FERRY", CreatedAt = Noon });
        await Should.ThrowAsync<DbUpdateException>(() => db.SaveChangesAsync());
    }

    private async Task<Guid> AddHostAsync()
    {
        await using var db = Database.Open();
        var group = new GroupRow { Id = Guid.CreateVersion7(), Name = "Saltmarsh Ferry", Path = "Saltmarsh Ferry", PathKey = "SALTMARSH FERRY", CreatedAt = Noon };
        var host = new HostRow { Id = Guid.CreateVersion7(), GroupId = group.Id, SystemName = "plover-log-01", Label = "plover-log-01", PublicKey = [1], EnrolledAt = Noon, LastSeenAt = Noon, PresenceSince = Noon };
        db.AddRange(group, host);
        await db.SaveChangesAsync();
        return host.Id;
    }

    private static (JobRow Job, RunRow Run) NewJob(Guid host)
    {
        var job = new JobRow { Id = Guid.CreateVersion7(), CreatedAt = Noon, CreatedById = Guid.NewGuid(), CreatedBy = "Ines Okafor", Selection = "all", Command = "{}", ExpiresAt = Noon.AddDays(1) };
        return (job, new RunRow { Id = Guid.CreateVersion7(), JobId = job.Id, HostId = host, State = RunState.Waiting });
    }

    private static Sample SampleAt(DateTimeOffset at, double percent) => new() { At = at, ProcessorPercent = percent, MemoryTotalBytes = 100, MemoryAvailableBytes = 40 };

    private static Fact FactOf(string name, string json) => new(name, JsonDocument.Parse(json).RootElement, Noon);
}

public sealed class SqliteStorageTests : StorageTests, IDisposable
{
    private readonly SqliteFile file = new();

    protected override IDatabase Open() => file.Open();

    public void Dispose() => file.Dispose();
}

public sealed class PostgresStorageTests(PostgresServer server) : StorageTests
{
    protected override IDatabase Open() => server.Open();
}
