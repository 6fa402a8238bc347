using System.Collections.Concurrent;
using System.CommandLine;
using System.Globalization;
using System.Text.Json.Serialization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <param name="Path">On the host.</param>
/// <param name="Sha256">Of a file's content, where it was asked for.</param>
public sealed record FoundFile(string Host, string Path, FileKind Kind, long Bytes, DateTimeOffset ChangedAt, string Owner, string? Sha256 = null);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, UseStringEnumConverter = true)]
[JsonSerializable(typeof(List<FoundFile>))]
public sealed partial class FoundJson : JsonSerializerContext;

/// <summary>Looks for files on many hosts at once.</summary>
public static class FileSearchCommand
{
    private const int AtOnce = 8;

    public static Command Search(ClientContext client)
    {
        var selection = SelectionArgument.Option(client, "--on");
        var folders = new Option<string[]>("--in") { Description = "The folder to look in, with all below it; may be given several times.", HelpName = "folder", Required = true, AllowMultipleArgumentsPerToken = true };
        var name = new Option<string?>("--name") { Description = "Of their names: * and ? stand for letters, large and small ones are the same.", HelpName = "name" };
        var kind = new Option<FileKind?>("--kind") { Description = "file, folder or link, where one alone is meant.", HelpName = "kind" };
        var larger = new Option<string?>("--larger") { Description = "Files of at least so many bytes: 10MiB.", HelpName = "bytes" };
        var smaller = new Option<string?>("--smaller") { Description = "Files of at most so many bytes.", HelpName = "bytes" };
        var newer = new Option<string?>("--newer") { Description = "Changed in the last so long: 2h or 7d.", HelpName = "time" };
        var older = new Option<string?>("--older") { Description = "Not changed in the last so long.", HelpName = "time" };
        var owner = new Option<string?>("--owner") { Description = "Whose they are.", HelpName = "owner" };
        var text = new Option<string?>("--text") { Description = "What is in them; of text files, the first 64 MiB of each.", HelpName = "text" };
        var fetch = new Option<string?>("--fetch-to") { Description = "Brings the files that are found into this folder, one below it for each host.", HelpName = "folder" };
        var hash = new Option<bool>("--hash") { Description = "Says the SHA-256 of each file too; the hosts read them for it, and nothing of them is sent." };
        var delete = new Option<bool>("--delete") { Description = "Puts what was found into the trash of its host, once all of it is known and you have said so." };
        var yes = new Option<bool>("--yes") { Description = "Does not ask again." };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("search", "Looks for files on hosts, many at once, and prints them as they are found. The hosts do it when they have nothing better to do.", "umbrek file search --on 'tagged kiosk' --in /var/log --name '*.log' --larger 10MiB\n  umbrek file search --on 'in \"Tarn Valley Creamery\"' --in /srv --newer 1d --text rennet --fetch-to found\n  umbrek file search --on all --in /tmp --name '*.core' --older 30d --delete");
        command.Add([selection, folders, name, kind, larger, smaller, newer, older, owner, text, fetch, hash, delete, yes, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var now = client.Time.GetUtcNow();
            long? Size(Option<string?> option) => parsed.GetValue(option) is not { } words ? null : Units.ParseBytes(words) ?? throw new ClientException($"'{words}' is no size; write 500KiB or 10MiB.", ExitCodes.WrongUse);
            DateTimeOffset? Ago(Option<string?> option) => parsed.GetValue(option) is not { } words ? null : now - (Units.ParseSpan(words) ?? throw new ClientException($"'{words}' is no length of time; write 2h or 7d.", ExitCodes.WrongUse));
            var wanted = parsed.GetRequiredValue(folders).Select(f => new FileSearch(
                FileCommands.ReadPath(f), parsed.GetValue(name), parsed.GetValue(kind), Size(larger), Size(smaller), Ago(newer), Ago(older), parsed.GetValue(owner), parsed.GetValue(text))).ToList();
            if (wanted.Select(w => w.Check()).FirstOrDefault(p => p is not null) is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            var hosts = await HostCommands.SelectAsync(api, parsed.GetRequiredValue(selection), cancel).ConfigureAwait(false);
            if (hosts.Count == 0)
            {
                throw new ClientException("No host is selected.", ExitCodes.NothingMatched);
            }
            await using var run = new SearchRun(client, api, parsed, secrets, wanted, parsed.GetValue(fetch), parsed.GetValue(hash), parsed.GetValue(delete), client.Format(parsed) == OutputFormat.Table);
            var stopped = false;
            try
            {
                await Parallel.ForEachAsync(hosts, new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = leave.Token }, async (host, stop) => await run.OnAsync(host, stop).ConfigureAwait(false)).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                stopped = true;
            }
            run.Tell(client.Format(parsed), hosts.Count);
            if (!stopped && parsed.GetValue(delete) && run.Deletable is > 0 and var many)
            {
                Prompt.Confirm($"Put {(many == 1 ? "it" : $"all {many}")} into the trash of {(run.DeletableOn == 1 ? "its host" : $"{run.DeletableOn} hosts")}", parsed.GetValue(yes));
                await run.DeleteAsync(leave.Token).ConfigureAwait(false);
            }
            return stopped ? Leaving.Say("What was found by then is above.") : run.Problems > 0 ? ExitCodes.Failed : ExitCodes.Done;
        });
        return command;
    }

    /// <summary>One search, on all of its hosts.</summary>
    private sealed class SearchRun(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, IReadOnlyList<FileSearch> wanted, string? fetchTo, bool hashes, bool deletes, bool prints) : IAsyncDisposable
    {
        /// <summary>So many hashes are asked for at once.</summary>
        private const int Ahead = 64;

        private readonly ConcurrentQueue<FoundFile> found = new();
        private readonly Lock printing = new();

        /// <summary>What is to be deleted, with the way to its host; nothing that lies in a folder of these.</summary>
        private readonly ConcurrentQueue<(HostFilesDoor Door, List<FileName> Paths)> deletable = new();
        private int fetched;
        private int problems;

        public int Problems => problems;

        public int Deletable => deletable.Sum(d => d.Paths.Count);

        public int DeletableOn => deletable.Count(d => d.Paths.Count > 0);

        public async Task OnAsync(HostSummary host, CancellationToken cancel)
        {
            if (host.Presence.State != PresenceState.Linked)
            {
                Complain($"{host.Label} is away; it was not looked at.");
                return;
            }
            try
            {
                var door = new HostFilesDoor(client, api, parsed, secrets, host);
                await using var leaves = deletes ? null : door;
                var paths = new List<FileName>();
                if (deletes)
                {
                    deletable.Enqueue((door, paths));
                }
                foreach (var search in wanted)
                {
                    var entries = new List<FileEntry>();
                    using (var files = await door.OpenAsync(changes: false, cancel).ConfigureAwait(false))
                    {
                        var end = await files.AskOneAsync(new FileAsk(Search: search), word => Hear(host, search, word, entries), cancel).ConfigureAwait(false);
                        if (end.Problem is { } cut)
                        {
                            Complain(cut);
                        }
                        if (hashes)
                        {
                            await HashAsync(files, host, search, entries, cancel).ConfigureAwait(false);
                        }
                    }
                    if (deletes)
                    {
                        Add(paths, entries.Select(e => search.Folder.In(e.Name)));
                    }
                    if (fetchTo is not null && entries.Exists(e => e.Kind == FileKind.File))
                    {
                        await FetchAsync(door, search, entries, cancel).ConfigureAwait(false);
                    }
                }
            }
            catch (Exception e) when (e is ClientException or LineBrokenException or ApiException or UnreachableException)
            {
                Complain($"{host.Label}: {e.Message}");
            }
        }

        public void Tell(OutputFormat format, int hosts)
        {
            var all = found.OrderBy(f => f.Host, StringComparer.Ordinal).ThenBy(f => f.Path, StringComparer.Ordinal).ToList();
            if (!prints)
            {
                Listing.Print(
                    format, all, FoundJson.Default.ListFoundFile, "", new("Host", f => f.Host), new("Path", f => f.Path), new("Kind", f => f.Kind.ToString().ToLowerInvariant()), new("Bytes", f => f.Bytes.ToString(CultureInfo.InvariantCulture)),
                    new("Changed", f => Words.Iso(f.ChangedAt) ?? ""), new("Owner", f => f.Owner), new("SHA-256", f => f.Sha256 ?? ""));
                return;
            }
            var on = all.Select(f => f.Host).Distinct().Count();
            Console.Error.WriteLine($"{(all.Count == 1 ? "1 was" : $"{all.Count} were")} found on {on} of {(hosts == 1 ? "1 host" : $"{hosts} hosts")}{(fetchTo is null ? "" : $"; {fetched} came here")}.");
        }

        /// <summary>Puts what was found into the trash of each host.</summary>
        public async Task DeleteAsync(CancellationToken cancel)
        {
            var deleted = 0;
            foreach (var (door, paths) in deletable.Where(d => d.Paths.Count > 0))
            {
                try
                {
                    using var files = await door.OpenAsync(changes: true, cancel).ConfigureAwait(false);
                    foreach (var path in paths)
                    {
                        if ((await files.AskAnyAsync(new FileAsk(Change: new FileChange(Delete: path)), null, cancel).ConfigureAwait(false)).Problem is { } problem)
                        {
                            Complain($"{door.Host.Label}: {problem}");
                            continue;
                        }
                        deleted++;
                    }
                }
                catch (Exception e) when (e is ClientException or LineBrokenException or ApiException or UnreachableException)
                {
                    Complain($"{door.Host.Label}: {e.Message}");
                }
            }
            Print(Console.Error, $"{deleted} {(deleted == 1 ? "lies" : "lie")} in the trash now; 'umbrek file trash HOST' shows what can be put back.");
        }

        public async ValueTask DisposeAsync()
        {
            foreach (var (door, _) in deletable)
            {
                await door.DisposeAsync().ConfigureAwait(false);
            }
        }

        /// <summary>What lies in a folder that is found as well goes with it.</summary>
        private static void Add(List<FileName> paths, IEnumerable<FileName> more)
        {
            foreach (var path in more.OrderBy(p => p.ToBytes().Length))
            {
                if (!paths.Exists(p => p == path || path.ToBytes().AsSpan().StartsWith([.. p.ToBytes(), (byte)'/'])))
                {
                    paths.Add(path);
                }
            }
        }

        private async Task HashAsync(HostFiles files, HostSummary host, FileSearch search, List<FileEntry> entries, CancellationToken cancel)
        {
            foreach (var part in entries.Where(e => e.Kind == FileKind.File).Chunk(Ahead))
            {
                foreach (var entry in part)
                {
                    await files.FillAsync(new FileAsk(Hash: search.Folder.In(entry.Name)), cancel).ConfigureAwait(false);
                }
                await files.FlushAsync(cancel).ConfigureAwait(false);
                foreach (var entry in part)
                {
                    var word = (await files.NextAsync(cancel).ConfigureAwait(false)).Word;
                    if (word?.Problem is { } problem)
                    {
                        Complain($"{host.Label}: {problem}");
                    }
                    Say(host, search, entry, word?.Sha256);
                }
            }
        }

        private void Hear(HostSummary host, FileSearch search, FileWord word, List<FileEntry> entries)
        {
            if (word.Problem is { } problem)
            {
                Complain($"{host.Label}: {problem}");
            }
            foreach (var entry in word.Entries ?? [])
            {
                entries.Add(entry);
                if (!hashes || entry.Kind != FileKind.File)
                {
                    Say(host, search, entry, null);
                }
            }
        }

        private void Say(HostSummary host, FileSearch search, FileEntry entry, byte[]? sha256)
        {
            var one = new FoundFile(host.Label, search.Folder.In(entry.Name).Text, entry.Kind, entry.Bytes, entry.ChangedAt, entry.Owner, sha256 is null ? null : Convert.ToHexStringLower(sha256));
            found.Enqueue(one);
            if (prints)
            {
                var size = entry.Kind == FileKind.File ? Units.Bytes(entry.Bytes) : entry.Kind.ToString().ToLowerInvariant();
                var hash = hashes ? $"  {one.Sha256 ?? "",-64}" : "";
                Print(Console.Out, $"{one.Host,-20} {size,10}  {entry.ChangedAt.UtcDateTime:yyyy-MM-dd HH:mm}{hash}  {TerminalText.Line(one.Path)}");
            }
        }

        private async Task FetchAsync(HostFilesDoor door, FileSearch search, List<FileEntry> entries, CancellationToken cancel)
        {
            var plan = FetchPlan.Of(search.Folder, entries, LocalName.Under(Path.GetFullPath(fetchTo!), new FileName(door.Host.Label.Replace('/', '_'))), Existing.Replace);
            var fetch = new Fetch(door, new(Existing.Replace, TimeSpan.FromMinutes(10), new RateLimit(null, client.Time)), client.Time, item => new FileArrival(item.Target, door.Host.Id, item.Path, item.Replaces));
            await fetch.RunAsync(_ => Task.FromResult(plan), cancel).ConfigureAwait(false);
            Interlocked.Add(ref fetched, plan.Groups.Sum(g => g.Items.Count(i => i.Sha256 is not null)));
            foreach (var problem in plan.Problems.Concat(fetch.Problems))
            {
                Complain($"{door.Host.Label}: {problem}");
            }
        }

        private void Complain(string problem)
        {
            Interlocked.Increment(ref problems);
            Print(Console.Error, TerminalText.Line(problem));
        }

        private void Print(TextWriter to, string line)
        {
            lock (printing)
            {
                to.WriteLine(line);
            }
        }
    }
}
