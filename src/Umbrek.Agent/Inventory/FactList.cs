using System.Text.Json;
using Umbrek.Core.Inventory;
using Umbrek.Wire;

namespace Umbrek.Agent.Inventory;

/// <summary>Collects facts of one moment.</summary>
public sealed class FactList(DateTimeOffset learntAt)
{
    public List<Fact> Items { get; } = [];

    public void Add(string name, string? value)
    {
        if (!string.IsNullOrEmpty(value))
        {
            Items.Add(new Fact(name, JsonSerializer.SerializeToElement(value, LinkJson.Default.String), learntAt));
        }
    }

    public void Add(string name, long value) => Items.Add(new Fact(name, JsonSerializer.SerializeToElement(value, LinkJson.Default.Int64), learntAt));

    public void Add(string name, IReadOnlyList<string> values) =>
        Items.Add(new Fact(name, JsonSerializer.SerializeToElement([.. values], LinkJson.Default.ListString), learntAt));
}
