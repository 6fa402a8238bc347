using System.Text.Json;
using Microsoft.Data.Sqlite;
using Umbrek.Core.Audit;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Service.Audit;
using Umbrek.Wire;

namespace Umbrek.Service.Storage;

/// <summary>Prepared statements on one connection that stays open.</summary>
public sealed class SqliteBulkStore(string connectionString) : IBulkStore, IDisposable
{
    private SqliteConnection? connection;

    public async Task WriteAsync(BulkBatch batch, CancellationToken cancel)
    {
        if (connection is null)
        {
            connection = new SqliteConnection(connectionString);
            await connection.OpenAsync(cancel).ConfigureAwait(false);
            SqliteSettings.Apply(connection);
        }
        using var transaction = connection.BeginTransaction(deferred: false);
        WriteJobs(batch, transaction);
        WritePresences(batch, transaction);
        WriteSamples(batch, transaction);
        WriteRollups(batch, transaction);
        WriteFacts(batch, transaction);
        WriteRuns(batch, transaction);
        WriteOutput(batch, transaction);
        WriteAudit(batch, transaction);
        transaction.Commit();
    }

    public void Dispose() => connection?.Dispose();

    private void WriteJobs(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Jobs.Count == 0)
        {
            return;
        }
        using var job = new Statement(connection!, transaction,
            """INSERT INTO "Jobs" ("Id","CreatedAt","CreatedById","CreatedBy","IdempotencyKey","Selection","Command","ExpiresAt","UsesVault","Pace","AgainOf","ScriptId","ScriptName","ScriptNumber") VALUES ($0,$1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13)""", 14);
        using var run = new Statement(connection!, transaction,
            """INSERT INTO "Runs" ("Id","JobId","HostId","State","Held","LastSequence","StdoutBytes","StderrBytes") VALUES ($0,$1,$2,$3,$4,-1,0,0)""", 5);
        foreach (var (row, runs) in batch.Jobs)
        {
            job.Run(Id(row.Id), Time(row.CreatedAt), Id(row.CreatedById), row.CreatedBy, row.IdempotencyKey, row.Selection, row.Command, Time(row.ExpiresAt), row.UsesVault, row.Pace, row.AgainOf is { } again ? Id(again) : null,
                row.ScriptId is { } script ? Id(script) : null, row.ScriptName, row.ScriptNumber);
            foreach (var r in runs)
            {
                run.Run(Id(r.Id), Id(r.JobId), Id(r.HostId), (int)r.State, r.Held);
            }
        }
    }

    private void WritePresences(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Presences.Count == 0)
        {
            return;
        }
        using var statement = new Statement(connection!, transaction,
            """
            UPDATE "Hosts" SET "Presence"=$1,"PresenceReason"=$2,"PresenceSince"=$3,"LastSeenAt"=$4,
            "AgentVersion"=COALESCE($5,"AgentVersion"),"SystemName"=COALESCE($6,"SystemName"),"SystemNameKey"=COALESCE($7,"SystemNameKey"),"Address"=COALESCE($8,"Address") WHERE "Id"=$0
            """, 9);
        foreach (var p in batch.Presences)
        {
            statement.Run(Id(p.HostId), (int)p.Presence.State, (int)p.Presence.Reason, Time(p.Presence.Since), Time(p.LastSeenAt), p.AgentVersion, p.SystemName, p.SystemNameKey, p.Address);
        }
    }

    private void WriteSamples(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Samples.Count == 0)
        {
            return;
        }
        using var statement = new Statement(connection!, transaction,
            """INSERT OR IGNORE INTO "Samples" ("HostId","At","ProcessorPercent","MemoryUsedPercent","StorageUsedPercent","Load1","MemoryTotalBytes","MemoryFreeBytes","StorageFreeBytes","UptimeSeconds","Sample","SwapUsedPercent","TemperatureCelsius") VALUES ($0,$1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12)""", 13);
        foreach (var (host, s) in batch.Samples)
        {
            var fullest = s.Fullest;
            statement.Run(Id(host), Time(s.At), s.ProcessorPercent, s.MemoryUsedPercent, fullest?.UsedPercent ?? 0, s.Load1, s.MemoryTotalBytes, s.MemoryAvailableBytes, fullest?.AvailableBytes, s.UptimeSeconds, JsonSerializer.Serialize(s, WireJson.Default.Sample), s.SwapUsedPercent, s.TemperatureCelsius);
        }
    }

    private void WriteRollups(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Rollups.Count > 0)
        {
            using var statement = new Statement(connection!, transaction, """INSERT OR REPLACE INTO "Rollups" ("HostId","Span","At","Figures") VALUES ($0,$1,$2,$3)""", 4);
            foreach (var row in batch.Rollups)
            {
                statement.Run(Id(row.HostId), (int)row.Span, Time(row.At), row.Figures);
            }
        }
        if (batch.StorageFull.Count > 0)
        {
            using var statement = new Statement(connection!, transaction, """UPDATE "Hosts" SET "StorageFullAt"=$1 WHERE "Id"=$0""", 2);
            foreach (var (host, at) in batch.StorageFull)
            {
                statement.Run(Id(host), Time(at));
            }
        }
    }

    private void WriteFacts(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Facts.Count == 0)
        {
            return;
        }
        // Most facts come again as they were: then only the time is new, and what selections compare stays.
        using var same = new Statement(connection!, transaction, """UPDATE "Facts" SET "LearntAt"=$3 WHERE "HostId"=$0 AND "Name"=$1 AND "Value"=$2""", 4);
        using var clear = new Statement(connection!, transaction, """DELETE FROM "FactValues" WHERE "HostId"=$0 AND "Name"=$1""", 2);
        using var value = new Statement(connection!, transaction, """INSERT INTO "FactValues" ("HostId","Name","Ordinal","TextKey","Number") VALUES ($0,$1,$2,$3,$4)""", 5);
        using var statement = new Statement(connection!, transaction,
            """INSERT INTO "Facts" ("HostId","Name","Value","LearntAt") VALUES ($0,$1,$2,$3) ON CONFLICT ("HostId","Name") DO UPDATE SET "Value"=excluded."Value","LearntAt"=excluded."LearntAt" """, 4);
        foreach (var (host, f) in batch.Facts)
        {
            var text = f.Value.GetRawText();
            if (same.Run(Id(host), f.Name, text, Time(f.LearntAt)) > 0)
            {
                continue;
            }
            statement.Run(Id(host), f.Name, text, Time(f.LearntAt));
            clear.Run(Id(host), f.Name);
            foreach (var (ordinal, one) in FactValues.Of(f.Value).Index())
            {
                value.Run(Id(host), f.Name, ordinal, Wildcard.Fold(one.Text), one.Number);
            }
        }
    }

    private void WriteRuns(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Runs.Count == 0)
        {
            return;
        }
        using var statement = new Statement(connection!, transaction,
            """
            UPDATE "Runs" SET "State"=$1,"CancelRequestedAt"=$2,"AcceptedAt"=$3,"StartedAt"=$4,"EndedAt"=$5,"ExitStatus"=$6,"Reason"=$7,"User"=$8,
            "LastSequence"=$9,"StdoutBytes"=$10,"StderrBytes"=$11,"Held"=$12,"Steps"=$13 WHERE "Id"=$0
            """, 14);
        foreach (var (id, mark) in batch.Runs)
        {
            var s = mark.Status;
            statement.Run(Id(id), (int)s.State, Time(mark.CancelRequestedAt), Time(s.AcceptedAt), Time(s.StartedAt), Time(s.EndedAt), s.ExitStatus, s.Reason, s.User, s.LastSequence, s.StdoutBytes, s.StderrBytes, mark.Held, RunRow.WriteSteps(s.Steps));
        }
    }

    private void WriteOutput(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Output.Count == 0)
        {
            return;
        }
        using var statement = new Statement(connection!, transaction,
            """INSERT OR IGNORE INTO "RunOutput" ("RunId","Sequence","Stream","Packed","Data") VALUES ($0,$1,$2,$3,$4)""", 5);
        foreach (var o in batch.Output)
        {
            statement.Run(Id(o.RunId), o.Sequence, (int)o.Stream, o.Packed, o.Data);
        }
    }

    private void WriteAudit(BulkBatch batch, SqliteTransaction transaction)
    {
        if (batch.Audit.Count == 0)
        {
            return;
        }
        var (number, hash) = (0L, AuditChain.Start);
        using (var last = connection!.CreateCommand())
        {
            last.Transaction = transaction;
            last.CommandText = """SELECT "Number","Hash" FROM "Audit" ORDER BY "Number" DESC LIMIT 1""";
            using var reader = last.ExecuteReader();
            if (reader.Read())
            {
                (number, hash) = (reader.GetInt64(0), reader.GetFieldValue<byte[]>(1));
            }
        }
        using var statement = new Statement(connection!, transaction,
            """INSERT INTO "Audit" ("Number","At","Actor","Address","Action","Target","Detail","Hash") VALUES ($0,$1,$2,$3,$4,$5,$6,$7)""", 8);
        foreach (var row in NewAuditLine.Chain(batch.Audit, number, hash))
        {
            statement.Run(row.Number, Time(row.At), row.Actor, row.Address, row.Action, row.Target, row.Detail, row.Hash);
        }
    }

    private static byte[] Id(Guid id) => id.ToByteArray(bigEndian: true);

    private static long? Time(DateTimeOffset? time) => time?.ToUnixTimeMilliseconds();

    /// <summary>A statement that is compiled once and run often.</summary>
    private sealed class Statement : IDisposable
    {
        private readonly SqliteCommand command;

        public Statement(SqliteConnection connection, SqliteTransaction transaction, string sql, int parameters)
        {
            command = connection.CreateCommand();
            command.Transaction = transaction;
            command.CommandText = sql;
            for (var i = 0; i < parameters; i++)
            {
                command.Parameters.Add(new SqliteParameter($"${i}", null));
            }
        }

        /// <returns>Rows that it changed.</returns>
        public int Run(params ReadOnlySpan<object?> values)
        {
            for (var i = 0; i < values.Length; i++)
            {
                command.Parameters[i].Value = values[i] ?? DBNull.Value;
            }
            return command.ExecuteNonQuery();
        }

        public void Dispose() => command.Dispose();
    }
}
