using System.Collections.Concurrent;
using System.CommandLine;
using System.IO.Compression;
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

namespace Umbrek.Cli.Files;

/// <param name="Files">So many came, or were here as they are there.</param>
/// <param name="Problems">Why the rest did not.</param>
public sealed record GatheredHost(string Host, string Group, int Files, long Bytes, IReadOnlyList<string> Problems);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(List<GatheredHost>))]
public sealed partial class GatherJson : JsonSerializerContext;

/// <summary>Brings the same files and folders of many hosts here: a folder for each host, or all in one archive.</summary>
public static class GatherCommand
{
    private const int AtOnce = 8;

    public static Command Gather(ClientContext client)
    {
        var paths = new Argument<string[]>("path") { Description = "Files and folders by their whole paths; * and ? stand for letters of a name.", Arity = ArgumentArity.OneOrMore };
        var on = SelectionArgument.Option(client, "--on");
        var to = new Option<string?>("--to") { Description = "The folder here below which each host gets one of its own.", HelpName = "folder" };
        var zip = new Option<string?>("--zip") { Description = "Puts all of it into this ZIP file instead.", HelpName = "file" };
        var options = new TransferOptions("here", "fetched from that host");
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("gather", "Brings the same files and folders of many hosts here, each below its host's name.", "umbrek gather /etc/kiosk /var/log/kiosk.log --on 'quay-ticket-*' --to kiosks\n  umbrek gather '/var/log/*.log' --on 'in \"Tarn Valley Creamery\"' --zip logs.zip");
        command.Add([paths, on, to, zip, .. options.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var how = options.Read(parsed, client.Time);
            var (folder, archive) = (parsed.GetValue(to), parsed.GetValue(zip));
            if ((folder is null) == (archive is null))
            {
                throw new ClientException("Say where they come to lie here: --to FOLDER, or --zip FILE.", ExitCodes.WrongUse);
            }
            if (archive is not null && Path.Exists(archive))
            {
                throw new ClientException($"There is a '{archive}' already; name another, or move it away.", ExitCodes.WrongUse);
            }
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            var hosts = await HostCommands.SelectAsync(api, parsed.GetRequiredValue(on), cancel).ConfigureAwait(false);
            if (hosts.Count == 0)
            {
                throw new ClientException("No host is selected.", ExitCodes.NothingMatched);
            }
            var making = folder ?? $"{Path.GetFullPath(archive!)}.{Guid.NewGuid():N}";
            Directory.CreateDirectory(making);
            var run = new GatherRun(client, api, parsed, secrets, how, parsed.GetRequiredValue(paths), Path.GetFullPath(making), FolderNames.Of(hosts));
            var stopped = false;
            try
            {
                await Parallel.ForEachAsync(hosts, new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = leave.Token }, async (host, stop) => await run.OnAsync(host, stop).ConfigureAwait(false)).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                stopped = true;
            }
            if (archive is not null)
            {
                await PackAsync(making, archive, stopped, leave.Token).ConfigureAwait(false);
            }
            if (stopped)
            {
                return Leaving.Say(archive is null ? "What has come is kept; the same command goes on from there." : "No archive was made.");
            }
            var done = run.Done.OrderBy(d => d.Group, StringComparer.OrdinalIgnoreCase).ThenBy(d => d.Host, StringComparer.OrdinalIgnoreCase).ToList();
            Tell(client.Format(parsed), done, archive ?? folder!);
            return done.Exists(d => d.Problems.Count > 0) ? ExitCodes.Failed : ExitCodes.Done;
        });
        return command;
    }

    private static void Tell(OutputFormat format, List<GatheredHost> done, string where)
    {
        Listing.Print(format, done, GatherJson.Default.ListGatheredHost, "",
            new("Host", d => d.Host), new("Group", d => d.Group), new("Files", d => $"{d.Files}", Right: true), new("Size", d => Units.Bytes(d.Bytes), Right: true, Machine: d => $"{d.Bytes}"),
            new("Not here", d => d.Problems.Count switch { 0 => "", 1 => TerminalText.Line(d.Problems[0]), var more => $"{TerminalText.Line(d.Problems[0])} (and {more - 1} more)" }));
        if (format == OutputFormat.Table)
        {
            Console.Error.WriteLine($"{done.Sum(d => d.Files)} files ({Units.Bytes(done.Sum(d => d.Bytes))}) of {done.Count(d => d.Files > 0)} of {done.Count} hosts lie in {where}.");
        }
    }

    /// <summary>The archive is there when it is whole; what it was made of is not kept.</summary>
    private static async Task PackAsync(string folder, string archive, bool stopped, CancellationToken cancel)
    {
        var half = $"{folder}.zip";
        try
        {
            if (!stopped)
            {
                using (var zip = await ZipFile.OpenAsync(half, ZipArchiveMode.Create, cancel).ConfigureAwait(false))
                {
                    await AddAsync(zip, new DirectoryInfo(folder), "", cancel).ConfigureAwait(false);
                }
                File.Move(half, archive);
            }
        }
        finally
        {
            File.Delete(half);
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>Links are kept as links: where they lead here is no file of the host.</summary>
    private static async Task AddAsync(ZipArchive zip, DirectoryInfo folder, string path, CancellationToken cancel)
    {
        const int linkType = 0xa000;
        const int fileType = 0x8000;
        foreach (var found in folder.EnumerateFileSystemInfos("*", new EnumerationOptions { AttributesToSkip = 0 }).OrderBy(f => f.Name, StringComparer.Ordinal))
        {
            if (found is DirectoryInfo { LinkTarget: null } below)
            {
                _ = zip.CreateEntry($"{path}{found.Name}/");
                await AddAsync(zip, below, $"{path}{found.Name}/", cancel).ConfigureAwait(false);
                continue;
            }
            var entry = zip.CreateEntry($"{path}{found.Name}", CompressionLevel.Fastest);
            // What ZIP can't say of times is left at its bounds.
            entry.LastWriteTime = found.LastWriteTimeUtc is { Year: >= 1980 and <= 2107 } at ? at : new DateTime(1980, 1, 1, 0, 0, 0, DateTimeKind.Utc);
            entry.ExternalAttributes = ((found.LinkTarget is null ? fileType | (OperatingSystem.IsWindows() ? 0x1a4 : (int)found.UnixFileMode) : linkType | 0x1ff) << 16);
            await using var to = await entry.OpenAsync(cancel).ConfigureAwait(false);
            if (found.LinkTarget is { } target)
            {
                await to.WriteAsync(System.Text.Encoding.UTF8.GetBytes(target), cancel).ConfigureAwait(false);
            }
            else
            {
                await using var from = File.OpenRead(found.FullName);
                await from.CopyToAsync(to, cancel).ConfigureAwait(false);
            }
        }
    }

    private sealed class GatherRun(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, TransferOptions.Chosen how, string[] paths, string folder, IReadOnlyDictionary<Guid, string> names)
    {
        public ConcurrentQueue<GatheredHost> Done { get; } = new();

        public async Task OnAsync(HostSummary host, CancellationToken cancel)
        {
            var problems = new List<string>();
            var (files, bytes) = (0, 0L);
            if (host.Presence.State != PresenceState.Linked)
            {
                problems.Add("It is away.");
            }
            else
            {
                try
                {
                    await using var door = new HostFilesDoor(client, api, parsed, secrets, host);
                    var fetch = new Fetch(door, how, client.Time, item => new FileArrival(item.Target, host.Id, item.Path, item.Replaces), shows: false);
                    var plan = await fetch.RunAsync(files => FetchPlan.MakeTreeAsync(files, paths, LocalName.Under(folder, new FileName(names[host.Id])), how.Existing, cancel), cancel).ConfigureAwait(false);
                    var came = plan.Groups.SelectMany(g => g.Items).Where(i => i.Sha256 is not null).ToList();
                    (files, bytes) = (came.Count + plan.Same, came.Sum(i => i.Entry.Bytes));
                    problems.AddRange(plan.Problems.Concat(fetch.Problems));
                    if (plan.Kept > 0)
                    {
                        problems.Add($"{plan.Kept} that are others here were kept.");
                    }
                }
                catch (Exception e) when (e is ClientException or LineBrokenException or ApiException or UnreachableException or IOException)
                {
                    problems.Add(e.Message);
                }
            }
            Done.Enqueue(new GatheredHost(host.Label, host.GroupPath, files, bytes, problems));
            if (!Console.IsErrorRedirected)
            {
                Terminal.Progress(Done.Count == names.Count ? "" : $"{Done.Count} of {names.Count} hosts are done …");
            }
        }
    }
}

/// <summary>What the folder of each host is called: its label, and its group before it where another is called so too.</summary>
internal static class FolderNames
{
    public static IReadOnlyDictionary<Guid, string> Of(IReadOnlyList<HostSummary> hosts)
    {
        static string Plain(string name) => name.Replace('/', '_') is var plain && plain is "." or ".." ? $"_{plain}" : plain;
        var taken = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var names = new Dictionary<Guid, string>();
        foreach (var alike in hosts.GroupBy(h => Plain(h.Label), StringComparer.OrdinalIgnoreCase))
        {
            foreach (var host in alike)
            {
                var name = alike.Count() == 1 ? alike.Key : Plain($"{host.GroupPath}_{host.Label}");
                names[host.Id] = taken.Add(name) ? name : $"{name} {host.Id:N}";
            }
        }
        return names;
    }
}
