using System.CommandLine;
using System.Diagnostics;
using System.Security.Cryptography;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Opens a text file of a host in the editor here, and puts back what becomes of it.</summary>
public static class FileEditCommand
{
    private static readonly string[] EditorNames = ["VISUAL", "EDITOR"];
    private const long MostBytes = 16 << 20;

    public static Command Edit(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var path = new Argument<string>("path") { Description = "The whole path of a text file." };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("edit", "Opens a text file of a host in the editor that $VISUAL or $EDITOR names, and puts it back byte for byte as that leaves it, if nobody changed it meanwhile. What it was before lies in the trash then.", "umbrek file edit quay-ticket-03 /etc/kiosk/kiosk.conf");
        command.Add([host, path, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var at = FileCommands.ReadPath(parsed.GetRequiredValue(path));
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            await using var door = new HostFilesDoor(client, api, parsed, secrets, found);
            var folder = Directory.CreateTempSubdirectory("umbrek-");
            var file = Path.Combine(folder.FullName, Path.GetFileName(LocalName.Under(folder.FullName, at.Last())));
            var keep = false;
            try
            {
                var (entry, before) = await ReadAsync(door, at, cancel).ConfigureAwait(false);
                await File.WriteAllBytesAsync(file, before, cancel).ConfigureAwait(false);
                await EditAsync(file, cancel).ConfigureAwait(false);
                var after = await File.ReadAllBytesAsync(file, cancel).ConfigureAwait(false);
                if (after.AsSpan().SequenceEqual(before))
                {
                    Console.Out.WriteLine($"Nothing was changed in {TerminalText.Line(at.Text)} of {found.Label}.");
                    return ExitCodes.Done;
                }
                keep = true;
                await WriteAsync(door, at, entry, after, cancel).ConfigureAwait(false);
                keep = false;
                Console.Out.WriteLine($"{TerminalText.Line(at.Text)} of {found.Label} is as you left it ({Units.Bytes(after.Length)}); what it was before lies in the trash there.");
                return ExitCodes.Done;
            }
            catch (Exception e) when (e is LineBrokenException or ClientException && keep)
            {
                throw new ClientException($"{e.Message} What you wrote is {file}.");
            }
            catch (LineBrokenException e)
            {
                throw new ClientException(e.Message);
            }
            finally
            {
                if (!keep)
                {
                    folder.Delete(recursive: true);
                }
            }
        });
        return command;
    }

    private static async Task<(FileEntry Entry, byte[] Content)> ReadAsync(HostFilesDoor door, FileName path, CancellationToken cancel)
    {
        using var files = await door.OpenAsync(changes: false, cancel).ConfigureAwait(false);
        var entry = await files.LookAsync(path, cancel).ConfigureAwait(false);
        if (entry.Kind == FileKind.File && entry.Bytes > MostBytes)
        {
            throw new ClientException($"{path} has {Units.Bytes(entry.Bytes)}; files of up to {Units.Bytes(MostBytes)} are edited so. Fetch it, and send it back.");
        }
        await files.AskAsync(new FileAsk(Read: new FileRead(path)), cancel).ConfigureAwait(false);
        using var content = new MemoryStream();
        while (true)
        {
            var message = await files.NextAsync(cancel).ConfigureAwait(false);
            switch (message.Word)
            {
                case null when content.Length + message.Data.Length <= MostBytes:
                    content.Write(message.Data.Span);
                    break;
                case { Zeros: { } zeros } when zeros > 0 && content.Length + zeros <= MostBytes:
                    content.Write(new byte[zeros]);
                    break;
                case { Problem: { } problem }:
                    throw new ClientException(problem);
                case { Entry: { } opened }:
                    entry = opened;
                    break;
                case { Done: true, Changed: true }:
                    throw new ClientException($"{path} changed while it was read; try again when nobody writes into it.");
                case { Done: true, Sha256: { } sha256 } when SHA256.HashData(content.GetBuffer().AsSpan(0, (int)content.Length)).AsSpan().SequenceEqual(sha256):
                    return content.GetBuffer().AsSpan(0, (int)content.Length).Contains((byte)0) && !HasWideMark(content.GetBuffer())
                        ? throw new ClientException($"{path} is no text. Fetch it, and send it back.")
                        : (entry, content.ToArray());
                default:
                    throw new ClientException($"{path} did not arrive as the host has read it. Try again.");
            }
        }
    }

    /// <summary>The byte order mark of UTF-16 (RFC 2781, section 3.2), whose letters have zero bytes.</summary>
    private static bool HasWideMark(ReadOnlySpan<byte> content) => content.StartsWith((ReadOnlySpan<byte>)[0xff, 0xfe]) || content.StartsWith((ReadOnlySpan<byte>)[0xfe, 0xff]);

    private static async Task EditAsync(string file, CancellationToken cancel)
    {
        var editor = EditorNames.Select(Environment.GetEnvironmentVariable).FirstOrDefault(e => !string.IsNullOrWhiteSpace(e)) ?? (OperatingSystem.IsWindows() ? "notepad" : "vi");
        // As other programs have it: the shell takes it apart, so that it may have options.
        using var process = Process.Start(OperatingSystem.IsWindows() ? new ProcessStartInfo(editor, [file]) : new ProcessStartInfo("/bin/sh", ["-c", $"{editor} \"$1\"", "sh", file]))
            ?? throw new ClientException($"The editor '{editor}' can't be started.");
        await process.WaitForExitAsync(cancel).ConfigureAwait(false);
        if (process.ExitCode != 0)
        {
            throw new ClientException($"The editor '{editor}' ended with {process.ExitCode}, so nothing was put back. Set $EDITOR to one that works here.");
        }
    }

    private static async Task WriteAsync(HostFilesDoor door, FileName path, FileEntry entry, byte[] content, CancellationToken cancel)
    {
        using var files = await door.OpenAsync(changes: true, cancel).ConfigureAwait(false);
        var write = new FileWrite(path, content.Length, Convert.ToHexStringLower(SHA256.HashData(content)), Replaces: true, Expects: entry.Version, KeepsOld: true);
        await files.FillAsync(new FileAsk(Write: write), cancel).ConfigureAwait(false);
        await files.FillAsync(content, cancel).ConfigureAwait(false);
        await files.AskOneAsync(new FileAsk(End: new FileEnd(SHA256.HashData(content))), null, cancel).ConfigureAwait(false);
    }
}
