using System.Diagnostics;
using Microsoft.EntityFrameworkCore;
using Umbrek.Service.Storage;
using Umbrek.Tests;

[assembly: AssemblyFixture(typeof(Umbrek.Service.Tests.Storage.PostgresServer))]

namespace Umbrek.Service.Tests.Storage;

/// <summary>A real PostgreSQL server of Debian's, for the tests of one run. Databases are copies of one that was migrated once.</summary>
public sealed class PostgresServer : IAsyncLifetime
{
    private readonly TestDirectory directory = new();
    private Process? server;
    private int port;

    private int databases;

    private const string Template = "migrated";

    /// <summary>A database that nobody else has.</summary>
    public IDatabase Open() => new PostgresDatabase(NewDatabase());

    /// <summary>How to reach a database that nobody else has, brought up to date.</summary>
    public string NewDatabase()
    {
        var name = $"umbrek{Interlocked.Increment(ref databases)}";
        using var connection = new Npgsql.NpgsqlConnection(ConnectionString("postgres"));
        connection.Open();
        using var command = new Npgsql.NpgsqlCommand($"CREATE DATABASE {name} TEMPLATE {Template}", connection);
        command.ExecuteNonQuery();
        return ConnectionString(name);
    }

    public string ConnectionString(string database) => $"Host=127.0.0.1;Port={port};Username=umbrek;Database={database};Pooling=true;Maximum Pool Size=10";

    public async ValueTask InitializeAsync()
    {
        port = TestPorts.Next();
        var bin = Directory.EnumerateDirectories("/usr/lib/postgresql").Order(StringComparer.Ordinal).Last() + "/bin";
        var data = directory.In("pg");
        Directory.CreateDirectory(data);
        if (Environment.IsPrivilegedProcess)
        {
            File.SetUnixFileMode(directory.Path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute | UnixFileMode.OtherExecute | UnixFileMode.OtherRead);
            await RunAsync("chown", "postgres", data);
        }
        await RunAsync([.. AsOwner(), $"{bin}/initdb", "-D", data, "-U", "umbrek", "-A", "trust", "-E", "UTF8", "--no-sync"]);
        string[] start = [.. AsOwner(), $"{bin}/postgres", "-D", data, "-k", "", "-p", $"{port}", "-c", "listen_addresses=127.0.0.1", "-c", "fsync=off"];
        server = Process.Start(new ProcessStartInfo(start[0], start[1..]) { RedirectStandardError = true, RedirectStandardOutput = true })!;
        server.ErrorDataReceived += (_, _) => { };
        server.BeginErrorReadLine();
        await Wait.UntilAsync(async () =>
        {
            try
            {
                await using var connection = new Npgsql.NpgsqlConnection(ConnectionString("postgres"));
                await connection.OpenAsync();
                return true;
            }
            catch (Npgsql.NpgsqlException)
            {
                return false;
            }
        }, "PostgreSQL to answer");
        using var template = new PostgresDatabase(ConnectionString(Template));
        await using (var db = template.Open())
        {
            await db.Database.MigrateAsync();
        }
    }

    public async ValueTask DisposeAsync()
    {
        Npgsql.NpgsqlConnection.ClearAllPools();
        if (server is not null)
        {
            // runuser passes the signal on; SIGINT is PostgreSQL's fast shutdown.
            await RunAsync("pkill", "-INT", "-f", directory.In("pg"));
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(15));
            await server.WaitForExitAsync(limit.Token);
            server.Dispose();
        }
        directory.Dispose();
    }

    private static string[] AsOwner() => Environment.IsPrivilegedProcess ? ["runuser", "-u", "postgres", "--"] : [];

    private static async Task RunAsync(params string[] command)
    {
        using var process = Process.Start(new ProcessStartInfo(command[0], command[1..]) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        if (process.ExitCode != 0)
        {
            throw new InvalidOperationException($"{string.Join(' ', command)}: {await error}{await output}");
        }
    }
}

/// <summary>Tests that every database must pass alike: each has one of its own, brought up to date.</summary>
public abstract class DatabaseTests : IAsyncLifetime
{
    protected IDatabase Database { get; private set; } = null!;

    protected abstract IDatabase Open();

    public async ValueTask InitializeAsync()
    {
        Database = Open();
        await using var db = Database.Open();
        (await db.Database.GetPendingMigrationsAsync()).ShouldBeEmpty();
    }

    public virtual ValueTask DisposeAsync()
    {
        (Database as IDisposable)?.Dispose();
        return ValueTask.CompletedTask;
    }
}

/// <summary>A file that goes with the test.</summary>
public sealed class SqliteFile : IDisposable
{
    private readonly TestDirectory directory = new();

    public IDatabase Open() => new SqliteDatabase(directory.In(SqliteDatabase.FileName));

    private static readonly Lazy<string> Migrated = new(() =>
    {
        var kept = new TestDirectory();
        AppDomain.CurrentDomain.ProcessExit += (_, _) => kept.Dispose();
        var file = kept.In(SqliteDatabase.FileName);
        using (var database = new SqliteDatabase(file))
        using (var db = database.Open())
        {
            db.Database.Migrate();
            db.Database.ExecuteSqlRaw("PRAGMA wal_checkpoint(TRUNCATE)");
        }
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        return file;
    });

    public SqliteFile() => CopyTo(directory.In(SqliteDatabase.FileName));

    /// <summary>Puts a database there that was brought up to date once for all tests; what migrations do to data has tests of its own.</summary>
    public static void CopyTo(string file) => File.Copy(Migrated.Value, file);

    public void Dispose() => directory.Dispose();
}
