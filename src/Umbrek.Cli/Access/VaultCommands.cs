using System.CommandLine;
using System.Text.Json;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Access;

namespace Umbrek.Cli.Access;

/// <summary>The vault as a whole, for whoever runs the service.</summary>
public static class VaultCommands
{
    public static Command Vault(ClientContext client)
    {
        var command = ClientCommands.Named("vault", "The place where secrets are kept, as a whole.", "umbrek vault show");
        command.Add(Show(client), RotateKey(client), Backup(client), Restore(client));
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var command = ClientCommands.Named("show", "Says how much the vault keeps, and how old its key is.", "umbrek vault show");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, await api.GetAsync("vault", WireJson.Default.VaultState, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command RotateKey(ClientContext client)
    {
        var command = ClientCommands.Named("rotate-key", "Makes another key of the vault and encrypts everything with it.", "umbrek vault rotate-key");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, await api.ActAsync("vault/rotate-key", WireJson.Default.VaultState, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Backup(ClientContext client)
    {
        var file = new Argument<string>("file") { Description = "Where to write it." };
        var passphrase = PassphraseFile();
        var command = ClientCommands.Named("backup", "Writes everything in the vault to a file, encrypted under a passphrase.", "umbrek vault backup vault-2026-11.json");
        command.Add(file, passphrase);
        command.SetAction(async (parsed, cancel) =>
        {
            var path = parsed.GetRequiredValue(file);
            if (File.Exists(path))
            {
                throw new ClientException($"{path} is there already; name another file, or remove it.", ExitCodes.WrongUse);
            }
            var asked = parsed.GetValue(passphrase);
            var words = SecretCommands.ReadSecret(asked, "Passphrase of the backup, 16 characters at least: ");
            if (asked is null && SecretCommands.ReadSecret(null, "The same again: ") != words)
            {
                throw new ClientException("The two differ; nothing was written.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var backup = await api.PostAsync("vault/backup", new VaultBackupRequest(words), WireJson.Default.VaultBackupRequest, WireJson.Default.VaultBackup, cancel).ConfigureAwait(false);
            var how = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
            if (!OperatingSystem.IsWindows())
            {
                how.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
            }
            await using (var stream = new FileStream(path, how))
            {
                await JsonSerializer.SerializeAsync(stream, backup, WireJson.Default.VaultBackup, cancel).ConfigureAwait(false);
            }
            Console.Out.WriteLine($"{path} has everything that the vault keeps, encrypted. Without the passphrase it is worth nothing: keep that elsewhere.");
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Restore(ClientContext client)
    {
        var file = new Argument<string>("file") { Description = "What 'umbrek vault backup' wrote." };
        var passphrase = PassphraseFile();
        var command = ClientCommands.Named("restore", "Puts back what is missing; what is there stays as it is.", "umbrek vault restore vault-2026-11.json");
        command.Add(file, passphrase);
        command.SetAction(async (parsed, cancel) =>
        {
            VaultBackup? backup;
            try
            {
                backup = JsonSerializer.Deserialize(await File.ReadAllBytesAsync(parsed.GetRequiredValue(file), cancel).ConfigureAwait(false), WireJson.Default.VaultBackup);
            }
            catch (JsonException)
            {
                throw new ClientException($"{parsed.GetValue(file)} is no backup of a vault. Nothing was restored.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var done = await api.PostAsync("vault/restore", new VaultRestore(SecretCommands.ReadSecret(parsed.GetValue(passphrase), "Passphrase of the backup: "), backup!), WireJson.Default.VaultRestore, WireJson.Default.VaultRestored, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"Restored {done.Restored}, left {done.Kept} that are there as they are{(done.LeftOut.Count == 0 ? "." : $", and found no place for {done.LeftOut.Count}:\n{string.Join('\n', done.LeftOut)}")}", done, WireJson.Default.VaultRestored);
            return done.LeftOut.Count == 0 ? ExitCodes.Done : ExitCodes.Failed;
        });
        return command;
    }

    private static Option<string?> PassphraseFile() => new("--passphrase-file") { Description = "Reads the passphrase from this file instead of asking.", HelpName = "file" };

    private static void Print(ClientContext client, ParseResult parsed, VaultState state) => Listing.PrintOne(client.Format(parsed), state, WireJson.Default.VaultState,
        ("Secrets", $"{state.Secrets}"), ("Texts, with their histories", $"{state.Texts}"), ("Key made", Words.Iso(state.KeyMadeAt)));
}
