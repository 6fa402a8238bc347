using System.Data.Common;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore.Diagnostics;

namespace Umbrek.Service.Storage;

/// <summary>
/// How every connection to the embedded database is set: a write-ahead log, so that readers never wait for the writer; each
/// commit on disk before it is acknowledged; and patience for the one writer at a time.
/// </summary>
public sealed class SqliteSettings : DbConnectionInterceptor
{
    public static void Apply(SqliteConnection connection)
    {
        using var command = connection.CreateCommand();
        command.CommandText = "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA busy_timeout=10000; PRAGMA foreign_keys=ON;";
        command.ExecuteNonQuery();
    }

    public override void ConnectionOpened(DbConnection connection, ConnectionEndEventData eventData) => Apply((SqliteConnection)connection);

    public override Task ConnectionOpenedAsync(DbConnection connection, ConnectionEndEventData eventData, CancellationToken cancellationToken = default)
    {
        Apply((SqliteConnection)connection);
        return Task.CompletedTask;
    }
}
