using System.Text.Json;
using Npgsql;
using NpgsqlTypes;
using Umbrek.Core.Audit;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Service.Audit;
using Umbrek.Wire;

namespace Umbrek.Service.Storage;

/// <summary>
/// One statement a table, rows as arrays (unnest): as few round trips as COPY, and unlike COPY it can pass over rows that
/// are there already.
/// </summary>
public sealed class PostgresBulkStore(NpgsqlDataSource source) : IBulkStore
{
    private const NpgsqlDbType Array = NpgsqlDbType.Array;

    public async Task WriteAsync(BulkBatch batch, CancellationToken cancel)
    {
        await using var connection = await source.OpenConnectionAsync(cancel).ConfigureAwait(false);
        await using var transaction = await connection.BeginTransactionAsync(cancel).ConfigureAwait(false);
        await using var commands = new NpgsqlBatch(connection, transaction);
        AddJobs(commands, batch);
        AddPresences(commands, batch);
        AddSamples(commands, batch);
        AddRollups(commands, batch);
        AddFacts(commands, batch);
        AddRuns(commands, batch);
        AddOutput(commands, batch);
        await AddAuditAsync(commands, batch, connection, transaction, cancel).ConfigureAwait(false);
        if (commands.BatchCommands.Count > 0)
        {
            await commands.ExecuteNonQueryAsync(cancel).ConfigureAwait(false);
        }
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>The chain goes on from the last line, which is held for this transaction alone.</summary>
    private static async Task AddAuditAsync(NpgsqlBatch commands, BulkBatch batch, NpgsqlConnection connection, NpgsqlTransaction transaction, CancellationToken cancel)
    {
        if (batch.Audit.Count == 0)
        {
            return;
        }
        await using (var turn = new NpgsqlCommand($"SELECT pg_advisory_xact_lock({AuditLog.AppendLock})", connection, transaction))
        {
            await turn.ExecuteNonQueryAsync(cancel).ConfigureAwait(false);
        }
        var (number, hash) = (0L, AuditChain.Start);
        await using (var last = new NpgsqlCommand("""SELECT "Number","Hash" FROM "Audit" ORDER BY "Number" DESC LIMIT 1""", connection, transaction))
        await using (var reader = await last.ExecuteReaderAsync(cancel).ConfigureAwait(false))
        {
            if (await reader.ReadAsync(cancel).ConfigureAwait(false))
            {
                (number, hash) = (reader.GetInt64(0), reader.GetFieldValue<byte[]>(1));
            }
        }
        foreach (var row in NewAuditLine.Chain(batch.Audit, number, hash))
        {
            Add(commands, """INSERT INTO "Audit" ("Number","At","Actor","Address","Action","Target","Detail","Hash") VALUES ($1,$2,$3,$4,$5,$6,$7,$8)""",
                (NpgsqlDbType.Bigint, row.Number), (NpgsqlDbType.TimestampTz, row.At), (NpgsqlDbType.Text, row.Actor), (NpgsqlDbType.Text, row.Address),
                (NpgsqlDbType.Text, row.Action), (NpgsqlDbType.Text, row.Target), (NpgsqlDbType.Text, row.Detail), (NpgsqlDbType.Bytea, row.Hash));
        }
    }

    private static void AddJobs(NpgsqlBatch commands, BulkBatch batch)
    {
        foreach (var (job, runs) in batch.Jobs)
        {
            Add(commands, """INSERT INTO "Jobs" ("Id","CreatedAt","CreatedById","CreatedBy","IdempotencyKey","Selection","Command","ExpiresAt","UsesVault","Pace","AgainOf","ScriptId","ScriptName","ScriptNumber") VALUES ($1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13,$14)""",
                (NpgsqlDbType.Uuid, job.Id), (NpgsqlDbType.TimestampTz, job.CreatedAt), (NpgsqlDbType.Uuid, job.CreatedById), (NpgsqlDbType.Text, job.CreatedBy),
                (NpgsqlDbType.Text, job.IdempotencyKey), (NpgsqlDbType.Text, job.Selection), (NpgsqlDbType.Text, job.Command), (NpgsqlDbType.TimestampTz, job.ExpiresAt),
                (NpgsqlDbType.Boolean, job.UsesVault), (NpgsqlDbType.Text, job.Pace), (NpgsqlDbType.Uuid, job.AgainOf),
                (NpgsqlDbType.Uuid, job.ScriptId), (NpgsqlDbType.Text, job.ScriptName), (NpgsqlDbType.Integer, job.ScriptNumber));
            Add(commands, """
                INSERT INTO "Runs" ("Id","JobId","HostId","State","Held","LastSequence","StdoutBytes","StderrBytes")
                SELECT id, job, host, state, held, -1, 0, 0 FROM unnest($1,$2,$3,$4,$5) AS t(id, job, host, state, held)
                """,
                Column(NpgsqlDbType.Uuid, runs, r => r.Id), Column(NpgsqlDbType.Uuid, runs, r => r.JobId),
                Column(NpgsqlDbType.Uuid, runs, r => r.HostId), Column(NpgsqlDbType.Integer, runs, r => (int)r.State), Column(NpgsqlDbType.Boolean, runs, r => r.Held));
        }
    }

    private static void AddPresences(NpgsqlBatch commands, BulkBatch batch)
    {
        foreach (var p in batch.Presences)
        {
            Add(commands, """
                UPDATE "Hosts" SET "Presence"=$2,"PresenceReason"=$3,"PresenceSince"=$4,"LastSeenAt"=$5,
                "AgentVersion"=COALESCE($6,"AgentVersion"),"SystemName"=COALESCE($7,"SystemName"),"SystemNameKey"=COALESCE($8,"SystemNameKey"),"Address"=COALESCE($9,"Address") WHERE "Id"=$1
                """,
                (NpgsqlDbType.Uuid, p.HostId), (NpgsqlDbType.Integer, (int)p.Presence.State), (NpgsqlDbType.Integer, (int)p.Presence.Reason),
                (NpgsqlDbType.TimestampTz, p.Presence.Since.ToUniversalTime()), (NpgsqlDbType.TimestampTz, p.LastSeenAt.ToUniversalTime()),
                (NpgsqlDbType.Text, p.AgentVersion), (NpgsqlDbType.Text, p.SystemName), (NpgsqlDbType.Text, p.SystemNameKey), (NpgsqlDbType.Text, p.Address));
        }
    }

    private static void AddSamples(NpgsqlBatch commands, BulkBatch batch)
    {
        if (batch.Samples.Count == 0)
        {
            return;
        }
        var s = batch.Samples;
        Add(commands, """
            INSERT INTO "Samples" ("HostId","At","ProcessorPercent","MemoryUsedPercent","StorageUsedPercent","Load1",
            "MemoryTotalBytes","MemoryFreeBytes","StorageFreeBytes","UptimeSeconds","Sample","SwapUsedPercent","TemperatureCelsius")
            SELECT * FROM unnest($1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13) ON CONFLICT DO NOTHING
            """,
            Column(NpgsqlDbType.Uuid, s, r => r.HostId), Column(NpgsqlDbType.TimestampTz, s, r => r.Sample.At.ToUniversalTime()),
            Column(NpgsqlDbType.Double, s, r => r.Sample.ProcessorPercent), Column(NpgsqlDbType.Double, s, r => r.Sample.MemoryUsedPercent),
            Column(NpgsqlDbType.Double, s, r => r.Sample.Fullest?.UsedPercent ?? 0), Column(NpgsqlDbType.Double, s, r => r.Sample.Load1),
            Column(NpgsqlDbType.Bigint, s, r => r.Sample.MemoryTotalBytes), Column(NpgsqlDbType.Bigint, s, r => r.Sample.MemoryAvailableBytes),
            Column(NpgsqlDbType.Bigint, s, r => r.Sample.Fullest?.AvailableBytes), Column(NpgsqlDbType.Bigint, s, r => r.Sample.UptimeSeconds),
            Column(NpgsqlDbType.Text, s, r => JsonSerializer.Serialize(r.Sample, WireJson.Default.Sample)),
            Column(NpgsqlDbType.Double, s, r => r.Sample.SwapUsedPercent), Column(NpgsqlDbType.Double, s, r => r.Sample.TemperatureCelsius));
    }

    private static void AddRollups(NpgsqlBatch commands, BulkBatch batch)
    {
        var r = batch.Rollups.GroupBy(x => (x.HostId, x.Span, x.At)).Select(g => g.Last()).ToList();
        if (r.Count > 0)
        {
            Add(commands, """
                INSERT INTO "Rollups" ("HostId","Span","At","Figures") SELECT * FROM unnest($1,$2,$3,$4) ON CONFLICT ("HostId","Span","At") DO UPDATE SET "Figures"=excluded."Figures"
                """,
                Column(NpgsqlDbType.Uuid, r, x => x.HostId), Column(NpgsqlDbType.Integer, r, x => (int)x.Span), Column(NpgsqlDbType.TimestampTz, r, x => x.At.ToUniversalTime()), Column(NpgsqlDbType.Bytea, r, x => x.Figures));
        }
        var f = batch.StorageFull.GroupBy(x => x.HostId).Select(g => g.Last()).ToList();
        if (f.Count > 0)
        {
            Add(commands, """
                UPDATE "Hosts" h SET "StorageFullAt"=t.at FROM unnest($1,$2) AS t(id, at) WHERE h."Id"=t.id
                """,
                Column(NpgsqlDbType.Uuid, f, x => x.HostId), Column(NpgsqlDbType.TimestampTz, f, x => x.At?.ToUniversalTime()));
        }
    }

    private static void AddFacts(NpgsqlBatch commands, BulkBatch batch)
    {
        // One row of a key at most in one statement: the last report counts.
        var f = batch.Facts.GroupBy(x => (x.HostId, x.Fact.Name)).Select(g => g.Last()).ToList();
        if (f.Count == 0)
        {
            return;
        }
        // What selections compare goes where the fact is another than before, and is put in where it is missing.
        Add(commands, """
            DELETE FROM "FactValues" v USING "Facts" f, unnest($1,$2,$3) AS t(host, name, value)
            WHERE f."HostId"=t.host AND f."Name"=t.name AND f."Value"<>t.value AND v."HostId"=t.host AND v."Name"=t.name
            """,
            Column(NpgsqlDbType.Uuid, f, r => r.HostId), Column(NpgsqlDbType.Text, f, r => r.Fact.Name), Column(NpgsqlDbType.Text, f, r => r.Fact.Value.GetRawText()));
        var values = f.SelectMany(r => FactValues.Of(r.Fact.Value).Index().Select(v => (r.HostId, r.Fact.Name, Ordinal: v.Index, v.Item))).ToList();
        Add(commands, """
            INSERT INTO "FactValues" ("HostId","Name","Ordinal","TextKey","Number") SELECT * FROM unnest($1,$2,$3,$4,$5) ON CONFLICT DO NOTHING
            """,
            Column(NpgsqlDbType.Uuid, values, v => v.HostId), Column(NpgsqlDbType.Text, values, v => v.Name), Column(NpgsqlDbType.Integer, values, v => v.Ordinal),
            Column(NpgsqlDbType.Text, values, v => Wildcard.Fold(v.Item.Text)), Column(NpgsqlDbType.Double, values, v => v.Item.Number));
        Add(commands, """
            INSERT INTO "Facts" ("HostId","Name","Value","LearntAt") SELECT * FROM unnest($1,$2,$3,$4)
            ON CONFLICT ("HostId","Name") DO UPDATE SET "Value"=excluded."Value","LearntAt"=excluded."LearntAt"
            """,
            Column(NpgsqlDbType.Uuid, f, r => r.HostId), Column(NpgsqlDbType.Text, f, r => r.Fact.Name),
            Column(NpgsqlDbType.Text, f, r => r.Fact.Value.GetRawText()), Column(NpgsqlDbType.TimestampTz, f, r => r.Fact.LearntAt.ToUniversalTime()));
    }

    private static void AddRuns(NpgsqlBatch commands, BulkBatch batch)
    {
        if (batch.Runs.Count == 0)
        {
            return;
        }
        var r = batch.Runs.Select(p => (Id: p.Key, S: p.Value.Status, p.Value.CancelRequestedAt, p.Value.Held)).ToList();
        Add(commands, """
            UPDATE "Runs" SET "State"=t.state,"CancelRequestedAt"=t.cancel,"AcceptedAt"=t.accepted,"StartedAt"=t.started,"EndedAt"=t.ended,"ExitStatus"=t.exit,
            "Reason"=t.reason,"User"=t.usr,"LastSequence"=t.seq,"StdoutBytes"=t.o,"StderrBytes"=t.e,"Held"=t.held,"Steps"=t.steps
            FROM unnest($1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13,$14) AS t(id,state,cancel,accepted,started,ended,exit,reason,usr,seq,o,e,held,steps) WHERE "Runs"."Id"=t.id
            """,
            Column(NpgsqlDbType.Uuid, r, x => x.Id), Column(NpgsqlDbType.Integer, r, x => (int)x.S.State), Column(NpgsqlDbType.TimestampTz, r, x => x.CancelRequestedAt?.ToUniversalTime()),
            Column(NpgsqlDbType.TimestampTz, r, x => x.S.AcceptedAt?.ToUniversalTime()), Column(NpgsqlDbType.TimestampTz, r, x => x.S.StartedAt?.ToUniversalTime()),
            Column(NpgsqlDbType.TimestampTz, r, x => x.S.EndedAt?.ToUniversalTime()), Column(NpgsqlDbType.Integer, r, x => x.S.ExitStatus),
            Column(NpgsqlDbType.Text, r, x => x.S.Reason), Column(NpgsqlDbType.Text, r, x => x.S.User), Column(NpgsqlDbType.Bigint, r, x => x.S.LastSequence),
            Column(NpgsqlDbType.Bigint, r, x => x.S.StdoutBytes), Column(NpgsqlDbType.Bigint, r, x => x.S.StderrBytes), Column(NpgsqlDbType.Boolean, r, x => x.Held),
            Column(NpgsqlDbType.Text, r, x => RunRow.WriteSteps(x.S.Steps)));
    }

    private static void AddOutput(NpgsqlBatch commands, BulkBatch batch)
    {
        var o = batch.Output;
        if (o.Count == 0)
        {
            return;
        }
        Add(commands, """INSERT INTO "RunOutput" ("RunId","Sequence","Stream","Packed","Data") SELECT * FROM unnest($1,$2,$3,$4,$5) ON CONFLICT DO NOTHING""",
            Column(NpgsqlDbType.Uuid, o, e => e.RunId), Column(NpgsqlDbType.Bigint, o, e => e.Sequence),
            Column(NpgsqlDbType.Integer, o, e => (int)e.Stream), Column(NpgsqlDbType.Boolean, o, e => e.Packed), Column(NpgsqlDbType.Bytea, o, e => e.Data));
    }

    private static (NpgsqlDbType Type, object? Value) Column<TRow, TValue>(NpgsqlDbType type, IReadOnlyList<TRow> rows, Func<TRow, TValue> value) =>
        (Array | type, rows.Select(value).ToArray());

    private static void Add(NpgsqlBatch commands, string sql, params ReadOnlySpan<(NpgsqlDbType Type, object? Value)> parameters)
    {
        var command = new NpgsqlBatchCommand(sql);
        foreach (var (type, value) in parameters)
        {
            command.Parameters.Add(new NpgsqlParameter { NpgsqlDbType = type, Value = value ?? DBNull.Value });
        }
        commands.BatchCommands.Add(command);
    }
}
