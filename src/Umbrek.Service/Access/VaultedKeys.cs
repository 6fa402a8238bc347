using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Sessions;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Access;

/// <summary>Proves access keys that the vault has, for technicians who may use them and need not see them; and sets others.</summary>
public sealed class VaultedKeys(IDatabase database, VaultService vault, SessionService sessions, Gate gate, ServiceKey key, AuditLog audit) : IDisposable
{
    private const int AtOnce = 16;
    private static readonly TimeSpan Within = TimeSpan.FromSeconds(45);

    /// <summary>A job on thousands of hosts proves their keys a few at a time; who waits for his turn is not late.</summary>
    private readonly SemaphoreSlim turns = new(AtOnce);

    public void Dispose() => turns.Dispose();

    /// <summary>Seals an order for a host that asks for its key, and hands it on while the session is open that it counts in.</summary>
    /// <exception cref="DoorException">The vault has not the key, or the host refuses it.</exception>
    /// <exception cref="ProblemException">The technician may not use secrets there.</exception>
    /// <param name="text">The order as JSON.</param>
    /// <param name="what">What it is for, as the audit log names it, and its id.</param>
    public async Task SealAsync(HostSummary host, Asker by, HostAct act, string text, (string Name, Guid Id) what, Func<SealedOrder, Task> send, CancellationToken cancel)
    {
        gate.Host(by, host.Id, Permission.UseSecrets);
        await turns.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            await SealInTurnAsync(host, by, act, text, what, send, cancel).ConfigureAwait(false);
        }
        finally
        {
            turns.Release();
        }
    }

    private async Task SealInTurnAsync(HostSummary host, Asker by, HostAct act, string text, (string Name, Guid Id) what, Func<SealedOrder, Task> send, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(Within);
        await using var db = database.Open();
        var (row, texts) = await vault.KeyOfAsync(db, host.Id, limit.Token).ConfigureAwait(false);
        if (row is null)
        {
            throw Missing(host);
        }
        try
        {
            await audit.AddAsync(by, "secret.use", host.Label, limit.Token, ("id", $"{row.Id}"), ("kind", row.Kind), (what.Name, $"{what.Id}")).ConfigureAwait(false);
            await using var session = await sessions.OpenOwnAsync(host, by, $"{what.Name}, with the key from the vault", limit.Token).ConfigureAwait(false);
            var sessionKey = await TryAsync(session, ChannelKinds.Key, db, row, texts, by, (_, proven) => Task.FromResult(proven!), limit.Token).ConfigureAwait(false);
            await send(SealedOrder.Make(sessionKey, session.Id, 1, act, text)).ConfigureAwait(false);
        }
        finally
        {
            texts.ForEach(t => CryptographicOperations.ZeroMemory(t.Text));
        }
    }

    /// <summary>Gives a host another key, made by chance, which the vault keeps before the host has it.</summary>
    /// <exception cref="DoorException">The vault has not the key there is, or the host refuses it.</exception>
    public async Task ChangeAsync(HostSummary host, bool endSessions, Asker by, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(Within);
        await using var db = database.Open();
        var (row, texts) = await vault.KeyOfAsync(db, host.Id, limit.Token).ConfigureAwait(false);
        var fresh = Encoding.UTF8.GetBytes(AccessKey.Generate());
        var told = false;
        var (secretId, number) = await vault.ProposeAsync(db, row, host.Id, fresh, by.Name, limit.Token).ConfigureAwait(false);
        try
        {
            await using var session = await sessions.OpenOwnAsync(host, by, "another access key", limit.Token).ConfigureAwait(false);
            async Task<byte[]> SetAsync(KeyExchange channel, byte[]? proven)
            {
                told = true;
                await channel.SetKeyAsync(fresh, key.Sha256, session.HostKey, proven, endSessions, limit.Token).ConfigureAwait(false);
                return fresh;
            }
            _ = await TryAsync(session, ChannelKinds.NewKey, db, row, texts, by, SetAsync, limit.Token).ConfigureAwait(false);
            // The host has it: nothing may keep that from being written down.
            await vault.CountAsync(db, secretId, number, by.Name, CancellationToken.None).ConfigureAwait(false);
            await audit.AddAsync(by, "access-key.rotate", host.Label, CancellationToken.None, ("secret", $"{secretId}"), ("number", $"{number}"), ("end-sessions", endSessions ? "yes" : null)).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new DoorException($"{host.Label} did not answer in time.");
        }
        finally
        {
            if (!told)
            {
                await VaultService.WithdrawAsync(db, secretId, number, CancellationToken.None).ConfigureAwait(false);
            }
            CryptographicOperations.ZeroMemory(fresh);
            texts.ForEach(t => CryptographicOperations.ZeroMemory(t.Text));
        }
    }

    /// <summary>Proves one text after the other, each on a channel of its own, until the host takes one; a proposed key that it takes counts from then on.</summary>
    private async Task<byte[]> TryAsync(OwnSession session, string kind, UmbrekContext db, SecretRow? row, List<(int Number, byte[] Text)> texts, Asker by, Func<KeyExchange, byte[]?, Task<byte[]>> then, CancellationToken cancel)
    {
        DoorException? refused = null;
        foreach (var (number, text) in texts.DefaultIfEmpty((Number: 0, Text: [])))
        {
            await using var channel = await session.OpenKeyChannelAsync(kind, cancel).ConfigureAwait(false);
            if (kind == ChannelKinds.NewKey && !await channel.AsksProofAsync(cancel).ConfigureAwait(false))
            {
                return await then(channel, null).ConfigureAwait(false);
            }
            if (texts.Count == 0)
            {
                throw Missing(session.Host);
            }
            byte[] proven;
            try
            {
                proven = await channel.ProveAsync(ChannelBinding.AccessKey, text, cancel).ConfigureAwait(false);
            }
            catch (DoorException e)
            {
                refused = e;
                continue;
            }
            if (row is not null && number != row.Number)
            {
                await vault.CountAsync(db, row.Id, number, by.Name, CancellationToken.None).ConfigureAwait(false);
            }
            return await then(channel, proven).ConfigureAwait(false);
        }
        throw new DoorException($"The vault's access key of {session.Host.Label} is not the one that the host has, or the host takes none now: {refused!.Message}");
    }

    private static DoorException Missing(HostSummary host) => new($"The vault has no access key of {host.Label}. Put it there: umbrek secret keep '{host.Label}'. Or give it with the command: --access-key.");
}
