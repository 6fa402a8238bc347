using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>The single edits of a host, inside a transaction of whoever calls: one host, many at once, an import.</summary>
public static class HostEdits
{
    public const int MaxNotes = 20_000;
    public const int MaxLinks = 20;
    public const int MaxTags = 40;

    /// <summary>Writes a line of the host's time line.</summary>
    public static void Tell(UmbrekContext db, Guid hostId, HostEventKind kind, string by, string text, DateTimeOffset at, Guid? id = null) =>
        db.HostEvents.Add(new HostEventRow { Id = id ?? Guid.CreateVersion7(), HostId = hostId, At = at, Kind = kind, By = by, Text = text.Length > 500 ? text[..500] : text });

    public static string? CleanNotes(string text)
    {
        var notes = text.Replace("\r\n", "\n").Trim();
        if (notes.Length > MaxNotes)
        {
            throw ProblemException.Invalid($"The notes have {notes.Length} characters; {MaxNotes} is the most.");
        }
        if (notes.EnumerateRunes().FirstOrDefault(r => r.Value is not ('\n' or '\t') && Names.IsHidden(r)) is { Value: not 0 } hidden)
        {
            throw ProblemException.Invalid($"The notes hold an invisible character (U+{hidden.Value:X4}); leave it out.");
        }
        return notes.Length == 0 ? null : notes;
    }

    public static string? CleanLinks(IReadOnlyList<HostLink> links)
    {
        if (links.Count > MaxLinks)
        {
            throw ProblemException.Invalid($"A host has at most {MaxLinks} links.");
        }
        var clean = links.Select(l =>
        {
            var title = Names.Clean(l.Title, "link's title", out var problem) ?? throw ProblemException.Invalid(problem);
            return Uri.TryCreate(l.Url, UriKind.Absolute, out var url) && url.Scheme is "http" or "https" && l.Url.Length <= 2000
                ? new HostLink(title, url.AbsoluteUri)
                : throw ProblemException.Invalid($"'{l.Url}' is no web address; write the whole of it, beginning with https://.");
        }).ToList();
        return clean.Count == 0 ? null : JsonSerializer.Serialize(clean, WireJson.Default.ListHostLink);
    }

    public static string CleanTag(string text)
    {
        var tag = Names.Clean(text, "tag", out var problem) ?? throw ProblemException.Invalid(problem);
        return tag.AsSpan().ContainsAny(',', ';') ? throw ProblemException.Invalid($"The tag '{tag}' holds a comma or semicolon; those stand between tags.") : tag.Length <= 60 ? tag : throw ProblemException.Invalid($"The tag has {tag.Length} characters; 60 is the most.");
    }

    /// <summary>Gives the host exactly these tags.</summary>
    /// <returns>What changed, as people read it, or null.</returns>
    public static async Task<string?> SetTagsAsync(UmbrekContext db, Guid hostId, IEnumerable<string> tags, CancellationToken cancel)
    {
        var wanted = tags.Select(CleanTag).DistinctBy(Wildcard.Fold).ToDictionary(Wildcard.Fold);
        if (wanted.Count > MaxTags)
        {
            throw ProblemException.Invalid($"A host has at most {MaxTags} tags.");
        }
        var before = await db.HostTags.Where(t => t.HostId == hostId).ToListAsync(cancel).ConfigureAwait(false);
        var gone = before.Where(t => !wanted.ContainsKey(t.Key)).ToList();
        var added = wanted.Where(w => before.All(t => t.Key != w.Key)).ToList();
        db.HostTags.RemoveRange(gone);
        added.ForEach(w => db.HostTags.Add(new HostTagRow { HostId = hostId, Key = w.Key, Tag = w.Value }));
        return gone.Count + added.Count == 0 ? null : string.Join(", ", added.Select(a => $"+{a.Value}").Concat(gone.Select(g => $"−{g.Tag}")));
    }

    /// <summary>Sets values of the customer's own fields; empty removes one.</summary>
    public static async Task<List<(string Field, string? Before, string? After)>> SetOwnAsync(UmbrekContext db, Guid hostId, IReadOnlyList<OwnFieldRow> fields, IReadOnlyDictionary<string, string?> values, CancellationToken cancel)
    {
        var changes = new List<(string, string?, string?)>();
        foreach (var (name, text) in values)
        {
            var row = fields.FirstOrDefault(f => f.NameKey == Wildcard.Fold(name.Trim()))
                ?? throw ProblemException.Invalid($"The customer has no field '{name}'.{(fields.Count == 0 ? " It has none of its own yet." : $" It has {string.Join(", ", fields.Select(f => f.Name))}.")}");
            var value = string.IsNullOrWhiteSpace(text) ? null : ToField(row).Read(text, out var problem) ?? throw ProblemException.Invalid(problem);
            var known = await db.OwnValues.FirstOrDefaultAsync(v => v.HostId == hostId && v.FieldId == row.Id, cancel).ConfigureAwait(false);
            if (known?.Text == value?.Text)
            {
                continue;
            }
            changes.Add((row.Name, known?.Text, value?.Text));
            if (value is null)
            {
                db.OwnValues.Remove(known!);
                continue;
            }
            if (known is null)
            {
                known = new OwnValueRow { HostId = hostId, FieldId = row.Id };
                db.OwnValues.Add(known);
            }
            known.Text = value.Text;
            known.TextKey = Wildcard.Fold(value.Text);
            known.Number = value.Number;
            known.Day = value.Day?.DayNumber;
        }
        return changes;
    }

    /// <summary>A host that goes to another customer takes along what that one has a field of the same name for; the rest goes.</summary>
    /// <returns>Fields whose values are dropped.</returns>
    public static async Task<List<string>> CarryOwnAsync(UmbrekContext db, Guid hostId, string customer, CancellationToken cancel)
    {
        var key = Wildcard.Fold(customer);
        var there = await db.OwnFields.Join(db.Groups.Where(g => g.PathKey == key), f => f.CustomerId, g => g.Id, (f, _) => f).ToListAsync(cancel).ConfigureAwait(false);
        var dropped = new List<string>();
        foreach (var value in await db.OwnValues.Where(v => v.HostId == hostId).ToListAsync(cancel).ConfigureAwait(false))
        {
            if (there.Any(f => f.Id == value.FieldId))
            {
                continue;
            }
            var field = await db.OwnFields.FirstAsync(f => f.Id == value.FieldId, cancel).ConfigureAwait(false);
            db.OwnValues.Remove(value);
            if (there.FirstOrDefault(f => f.NameKey == field.NameKey) is { } same && ToField(same).Read(value.Text, out _) is { } read)
            {
                db.OwnValues.Add(new OwnValueRow { HostId = hostId, FieldId = same.Id, Text = read.Text, TextKey = Wildcard.Fold(read.Text), Number = read.Number, Day = read.Day?.DayNumber });
            }
            else
            {
                dropped.Add(field.Name);
            }
        }
        return dropped;
    }

    public static OwnField ToField(OwnFieldRow row) => new(row.Name, row.Kind, JsonSerializer.Deserialize(row.Choices, WireJson.Default.ListString) ?? []);

    public static OwnFieldInfo ToInfo(OwnFieldRow row) => new(row.Id, row.Name, row.Kind, ToField(row).Choices);

    /// <summary>The own fields of the customer that a path begins with.</summary>
    public static async Task<List<OwnFieldRow>> FieldsOfAsync(UmbrekContext db, string groupPath, CancellationToken cancel)
    {
        var key = Wildcard.Fold(GroupPath.Customer(groupPath));
        return await db.OwnFields.AsNoTracking().Join(db.Groups.Where(g => g.PathKey == key), f => f.CustomerId, g => g.Id, (f, _) => f).OrderBy(f => f.NameKey).ToListAsync(cancel).ConfigureAwait(false);
    }
}
