using System.Data.Common;
using System.Text;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Estate;

/// <summary>What differs between the databases in such a query.</summary>
/// <param name="FirstOfPath">SQL for the part of a path before the first "/".</param>
public sealed record SelectionDialect(Func<string, string> FirstOfPath, Func<DateTimeOffset, object> Time)
{
    public static readonly SelectionDialect Sqlite = new(path => $"CASE instr({path},'/') WHEN 0 THEN {path} ELSE substr({path},1,instr({path},'/')-1) END", time => time.ToUnixTimeMilliseconds());
    public static readonly SelectionDialect Postgres = new(path => $"split_part({path},'/',1)", time => time.ToUniversalTime());
}

/// <summary>
/// A selection as one SQL query for the ids of its hosts: the same hosts as <see cref="Selection.Matches"/> gives, over everything
/// that is stored. What is not known compares as false, never as null, so that "not" means the same on both sides.
/// </summary>
public sealed class SelectionSql
{
    private readonly StringBuilder sql = new();
    private readonly List<object> values = [];
    private readonly SelectionDialect dialect;
    private readonly IReadOnlyCollection<string> agentVersions;
    private readonly DateTimeOffset now;

    private SelectionSql(SelectionDialect dialect, IReadOnlyCollection<string> agentVersions, DateTimeOffset now)
    {
        this.dialect = dialect;
        this.agentVersions = agentVersions;
        this.now = now;
    }

    /// <summary>Fills a command on a connection of the dialect's database; it returns one column, the host's id.</summary>
    /// <param name="selection">Without saved selections in it.</param>
    /// <param name="agentVersions">All versions that hosts have: versions have an order that no database knows.</param>
    public static void Write(DbCommand command, Selection selection, SelectionDialect dialect, IReadOnlyCollection<string> agentVersions, DateTimeOffset now)
    {
        var writer = new SelectionSql(dialect, agentVersions, now);
        writer.sql.Append("""SELECT h."Id" FROM "Hosts" h JOIN "Groups" g ON g."Id"=h."GroupId" WHERE """);
        if (!selection.MentionsRetired)
        {
            writer.sql.Append("""h."RetiredAt" IS NULL AND """);
        }
        writer.Condition(selection);
        command.CommandText = writer.sql.ToString();
        for (var i = 0; i < writer.values.Count; i++)
        {
            var parameter = command.CreateParameter();
            parameter.ParameterName = $"@p{i}";
            parameter.Value = writer.values[i];
            command.Parameters.Add(parameter);
        }
    }

    private void Condition(Selection selection)
    {
        switch (selection)
        {
            case Selection.Everything:
                sql.Append("1=1");
                break;
            case Selection.Named named:
                sql.Append('(').Append(Like("""h."SystemNameKey" """, named.Pattern)).Append(" OR ").Append(Like("""h."LabelKey" """, named.Pattern)).Append(')');
                break;
            case Selection.In group:
                var key = Wildcard.Fold(GroupPath.Join(GroupPath.Split(group.Path)));
                sql.Append($"""(g."PathKey"={Value(key)} OR g."PathKey" LIKE {Value(Escape(key, false) + "/%")} ESCAPE '\')""");
                break;
            case Selection.Is condition:
                sql.Append(condition.State switch
                {
                    HostCondition.Linked => $"""h."Presence"={(int)PresenceState.Linked}""",
                    HostCondition.Away => $"""h."Presence"<>{(int)PresenceState.Linked}""",
                    HostCondition.Lost => $"""(h."Presence"={(int)PresenceState.Away} AND h."PresenceReason"={(int)AwayReason.LostContact})""",
                    HostCondition.Used => FactExists(FactNames.Users, "1=1"),
                    _ => """h."RetiredAt" IS NOT NULL""",
                });
                break;
            case Selection.Tagged tagged:
                sql.Append($"""EXISTS (SELECT 1 FROM "HostTags" t WHERE t."HostId"=h."Id" AND {Like("""t."Key" """, tagged.Pattern)})""");
                break;
            case Selection.Used used:
                sql.Append(FactExists(FactNames.Users, Like("""v."TextKey" """, used.Pattern)));
                break;
            case Selection.Like like:
                sql.Append(like.Key.Fact is { } fact ? FactExists(fact, Like("""v."TextKey" """, like.Pattern)) : TextOf(like.Key, like.Pattern));
                break;
            case Selection.Versioned version:
                sql.Append(AgentIs(v => version.Relation.Holds(Core.Text.VersionOrder.Compare(v, version.Than))));
                break;
            case Selection.Compared compared:
                sql.Append(Figure(compared));
                break;
            case Selection.HasOwn own:
                sql.Append($"""EXISTS (SELECT 1 FROM "OwnValues" v JOIN "OwnFields" f ON f."Id"=v."FieldId" WHERE v."HostId"=h."Id" AND f."NameKey"={Value(Wildcard.Fold(own.Name))} AND {Compares(own.Relation, own.Value, true)})""");
                break;
            case Selection.HasFact hasFact:
                sql.Append(FactExists(hasFact.Name, Compares(hasFact.Relation, hasFact.Value, false)));
                break;
            case Selection.Not not:
                sql.Append("NOT (");
                Condition(not.Operand);
                sql.Append(')');
                break;
            case Selection.Every every:
                Join(every.All, " AND ");
                break;
            case Selection.Any any:
                Join(any.All, " OR ");
                break;
            default:
                throw new InvalidOperationException($"'{selection}' was not resolved.");
        }
    }

    private void Join(IReadOnlyList<Selection> parts, string word)
    {
        sql.Append('(');
        for (var i = 0; i < parts.Count; i++)
        {
            sql.Append(i == 0 ? "" : word);
            Condition(parts[i]);
        }
        sql.Append(')');
    }

    private string TextOf(SelectionKey key, string pattern) => key.Name switch
    {
        "name" => Like("""h."SystemNameKey" """, pattern),
        "label" => Like("""h."LabelKey" """, pattern),
        "customer" => Like(dialect.FirstOfPath("""g."PathKey" """), pattern),
        "agent" => AgentIs(v => Wildcard.Matches(pattern, v)),
        _ => throw new NotSupportedException($"The database does not know the key {key.Name}."),
    };

    private string AgentIs(Func<string, bool> is_)
    {
        var versions = agentVersions.Where(is_).ToList();
        return versions.Count == 0 ? "1=0" : $"""h."AgentVersion" IN ({string.Join(',', versions.Select(v => Value(v)))})""";
    }

    private string Figure(Selection.Compared compared)
    {
        var (key, relation, than) = compared;
        string Latest(string column) => $"""(SELECT {column} FROM "Samples" s WHERE s."HostId"=h."Id" ORDER BY s."At" DESC LIMIT 1)""";
        string Known(string expression) => $"COALESCE({expression} {relation.Sign()} {Value(than.Value)},FALSE)";
        return (key.Name, than.Unit.Dimension) switch
        {
            ("processor", _) => Known(Latest("""s."ProcessorPercent" """)),
            _ when key.Fact is { } fact => Known($"""(SELECT v."Number" FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."Name"={Value(fact)} ORDER BY v."Ordinal" LIMIT 1)"""),
            ("load", _) => Known(Latest("""s."Load1" """)),
            ("memory.total", _) => Known(Latest("""s."MemoryTotalBytes" """)),
            ("memory.free", Dimension.Size) => Known(Latest("""s."MemoryFreeBytes" """)),
            ("memory.free", _) => Known(Latest("""CASE WHEN s."MemoryTotalBytes">0 THEN CAST(100.0 AS DOUBLE PRECISION)*s."MemoryFreeBytes"/s."MemoryTotalBytes" END""")),
            ("memory.used", _) => Known(Latest("""s."MemoryUsedPercent" """)),
            ("storage.used", _) => Known(Latest("""CASE WHEN s."StorageFreeBytes" IS NOT NULL THEN s."StorageUsedPercent" END""")),
            ("storage.free", _) => Known(Latest("""s."StorageFreeBytes" """)),
            ("storage.full-in", _) => $"""COALESCE(h."StorageFullAt" {relation.Sign()} {Value(dialect.Time(now + TimeSpan.FromSeconds(Math.Min(than.Value, 3e9))))},FALSE)""",
            ("swap.used", _) => Known(Latest("""s."SwapUsedPercent" """)),
            ("temperature", _) => Known(Latest("""s."TemperatureCelsius" """)),
            ("up", _) => Known(Latest("""s."UptimeSeconds" """)),
            // An age is compared as the time it began: older is smaller.
            ("seen", _) => $"""CASE WHEN h."Presence"={(int)PresenceState.Linked} THEN {(relation.Holds(0, than.Value) ? "1=1" : "1=0")} ELSE h."LastSeenAt" {Turned(relation)} {Value(dialect.Time(Before(than)))} END""",
            ("enrolled", _) => $"""h."EnrolledAt" {Turned(relation)} {Value(dialect.Time(Before(than)))}""",
            _ => throw new NotSupportedException($"The database does not know the key {key.Name}."),
        };
    }

    private DateTimeOffset Before(Quantity age) => now - TimeSpan.FromSeconds(Math.Min(age.Value, 3e9));

    private static string Turned(Relation relation) => (relation switch
    {
        Relation.Below => Relation.Above,
        Relation.AtMost => Relation.AtLeast,
        Relation.AtLeast => Relation.AtMost,
        Relation.Above => Relation.Below,
        _ => Relation.Equal,
    }).Sign();

    private string Compares(Relation relation, Literal literal, bool days)
    {
        var ways = new List<string>();
        if (literal.Number is { } number)
        {
            ways.Add($"""COALESCE(v."Number" {relation.Sign()} {Value((double)number)},FALSE)""");
        }
        if (days && literal.Day is { } day)
        {
            ways.Add($"""COALESCE(v."Day" {relation.Sign()} {Value(day.DayNumber)},FALSE)""");
        }
        if (relation == Relation.Equal)
        {
            ways.Add(Like("""v."TextKey" """, literal.Text));
        }
        return ways.Count == 0 ? "1=0" : $"({string.Join(" OR ", ways)})";
    }

    private string FactExists(string name, string condition) => $"""EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."Name"={Value(name)} AND {condition})""";

    private string Like(string column, string pattern)
    {
        var folded = Wildcard.Fold(pattern);
        return Wildcard.HasSigns(folded) ? $"{column} LIKE {Value(Escape(folded, true))} ESCAPE '\\'" : $"{column}={Value(folded)}";
    }

    /// <summary>LIKE's own signs lose their meaning; ours become them.</summary>
    private static string Escape(string text, bool wildcards)
    {
        var escaped = text.Replace("\\", "\\\\").Replace("%", "\\%").Replace("_", "\\_");
        return wildcards ? escaped.Replace('*', '%').Replace('?', '_') : escaped;
    }

    private string Value(object value)
    {
        values.Add(value);
        return $"@p{values.Count - 1}";
    }
}
