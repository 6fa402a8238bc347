using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Npgsql;
using Umbrek.Service.Estate;

namespace Umbrek.Service.Storage;

/// <summary>Short-lived contexts on whichever database the service was started with.</summary>
public interface IDatabase : IDisposable
{
    UmbrekContext Open();
    IBulkStore Bulk { get; }

    /// <summary>How a selection is said to this database.</summary>
    SelectionDialect Dialect { get; }
}

/// <summary>A file in the data directory.</summary>
public sealed class SqliteDatabase : IDatabase
{
    public const string FileName = "umbrek.db";

    private readonly DbContextOptions<SqliteUmbrekContext> options;
    private readonly SqliteBulkStore bulk;

    public SqliteDatabase(string file)
    {
        var connection = new SqliteConnectionStringBuilder { DataSource = file }.ToString();
        options = new DbContextOptionsBuilder<SqliteUmbrekContext>().UseSqlite(connection).AddInterceptors(new SqliteSettings()).Options;
        bulk = new SqliteBulkStore(connection);
    }

    public IBulkStore Bulk => bulk;

    public SelectionDialect Dialect => SelectionDialect.Sqlite;

    public UmbrekContext Open() => new SqliteUmbrekContext(options);

    public void Dispose() => bulk.Dispose();
}

/// <summary>A PostgreSQL server, by its connection string.</summary>
public sealed class PostgresDatabase : IDatabase
{
    private readonly NpgsqlDataSource source;
    private readonly DbContextOptions<PostgresUmbrekContext> options;

    public PostgresDatabase(string connectionString)
    {
        source = NpgsqlDataSource.Create(connectionString);
        options = new DbContextOptionsBuilder<PostgresUmbrekContext>().UseNpgsql(source).Options;
        Bulk = new PostgresBulkStore(source);
    }

    public IBulkStore Bulk { get; }

    public SelectionDialect Dialect => SelectionDialect.Postgres;

    public UmbrekContext Open() => new PostgresUmbrekContext(options);

    public void Dispose() => source.Dispose();
}
