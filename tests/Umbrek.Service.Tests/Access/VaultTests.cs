using System.Net;
using System.Text;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Umbrek.Agent.Access;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Storage;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Service.Tests.Sessions;
using Umbrek.Simulation.Estate;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Access;

public sealed class VaultTests
{
    private const string Key = "harbour lamp seven gulls";
    private const string Password = "correct gull battery marker 0451";
    private static readonly CommandSpec Uname = new() { Line = "uname -r" };

    [Fact]
    public async Task Using_a_secret_and_seeing_it_are_two_permissions_and_seeing_takes_a_reason()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = (await service.HostAsync("quay-ticket-01")).Id;
        var made = await KeepAsync(service, new NewSecret(SecretKind.Logon, Password, HostId: host, Name: "local administrator", UserName: "admin"));
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var priya = await service.JoinedByAsync("Priya Lund", "viewer");
        using var far = await service.JoinedByAsync("Odile Marsh", "lead", "Copperbeech Libraries");

        (await tomasz.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Items.Single().UserName.ShouldBe("admin");
        (await priya.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Total.ShouldBe(0);
        (await far.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Total.ShouldBe(0);
        (await Should.ThrowAsync<ApiException>(() => RevealAsync(tomasz, made.Id, "at the kiosk"))).Message.ShouldContain("'reveal-secrets'");
        (await Should.ThrowAsync<ApiException>(() => RevealAsync(far, made.Id, "curious"))).Problem.Word.ShouldBe(ProblemTypes.NotFound);

        (await Should.ThrowAsync<ApiException>(() => RevealAsync(service.Api, made.Id, "  "))).Message.ShouldContain("why it has to be seen");
        (await RevealAsync(service.Api, made.Id, "at the kiosk, no network")).ShouldBe(new RevealedSecret(Password, "admin", 1));
        var (_, body, response) = await service.SendAsync(HttpMethod.Post, $"/api/v1/secrets/{made.Id}/reveal", """{"reason":"once more"}""");
        (response.Headers.CacheControl?.NoStore, body.Contains(Password, StringComparison.Ordinal)).ShouldBe((true, true));
        var lines = (await service.Api.GetAsync("audit?action=secret", WireJson.Default.PageAuditInfo, default)).Items;
        lines.Select(l => l.Action).ShouldBe(["secret.reveal", "secret.reveal", "secret.add"]);
        lines[1].Detail.ShouldContain("at the kiosk, no network");
        lines.ShouldAllBe(l => !l.Detail.Contains(Password, StringComparison.Ordinal));
        (await service.Api.GetAsync("audit?action=access.refuse", WireJson.Default.PageAuditInfo, default)).Items.ShouldContain(l => l.Actor == "Tomasz Vail");
    }

    [Fact]
    public async Task A_secret_keeps_its_history_and_two_who_change_it_are_told()
    {
        await using var service = await TestService.StartAsync();
        var group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == "Saltmarsh Ferry").Id;
        var made = await KeepAsync(service, new NewSecret(SecretKind.Logon, "first", GroupId: group, Name: "till"));
        var after = await service.Api.PatchAsync($"secrets/{made.Id}", new SecretChange("second"), made.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, default);
        after.Number.ShouldBe(2);
        (await Should.ThrowAsync<ApiException>(() => service.Api.PatchAsync($"secrets/{made.Id}", new SecretChange("third"), made.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, default))).Problem.Word.ShouldBe(ProblemTypes.Changed);
        (await service.Api.GetAsync($"secrets/{made.Id}", WireJson.Default.SecretDetail, default)).Versions.Select(v => (v.Number, v.Counts)).ShouldBe([(2, true), (1, false)]);
        (await RevealAsync(service.Api, made.Id, "what was it", 1)).Secret.ShouldBe("first");
        (await RevealAsync(service.Api, made.Id, "what is it")).Secret.ShouldBe("second");

        // A group that secrets stand at does not go, and its secrets with it.
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Delete, $"groups/{group}", default))).Message.ShouldContain("The vault keeps secrets of Saltmarsh Ferry");
        await service.Api.ActAsync(HttpMethod.Delete, $"secrets/{made.Id}", default);
        await service.Api.ActAsync(HttpMethod.Delete, $"groups/{group}", default);
    }

    [Theory]
    [InlineData("""{"kind":"logon","secret":"x","name":"till"}""", "at a host or at a group")]
    [InlineData("""{"kind":"logon","secret":"","groupId":"GROUP","name":"till"}""", "is empty")]
    [InlineData("""{"kind":"logon","secret":"x","groupId":"GROUP"}""", "name of the secret is empty")]
    [InlineData("""{"kind":"access-key","secret":"harbour lamp seven gulls","groupId":"GROUP"}""", "belongs to one host")]
    [InlineData("""{"kind":"spell","secret":"x","groupId":"GROUP"}""", "not the JSON")]
    [InlineData("""{"kind":"logon","secret":"x","groupId":"00000000-0000-0000-0000-000000000001","name":"till"}""", "no such group")]
    public async Task A_wish_that_can_not_be_met_is_refused_in_a_sentence(string json, string word)
    {
        await using var service = await TestService.StartAsync();
        var group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items[0].Id;
        var (status, body, _) = await service.SendAsync(HttpMethod.Post, "/api/v1/secrets", json.Replace("GROUP", $"{group}", StringComparison.Ordinal));
        status.ShouldBeOneOf(HttpStatusCode.BadRequest, HttpStatusCode.NotFound);
        body.ShouldContain(word);
    }

    [Fact]
    public async Task The_vaults_key_is_exchanged_and_nothing_in_the_database_tells_a_secret()
    {
        await using var service = await TestService.StartAsync();
        var group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items[0].Id;
        var made = await KeepAsync(service, new NewSecret(SecretKind.Logon, Password, GroupId: group, Name: "till"));
        await using (var db = service.Get<IDatabase>().Open())
        {
            var before = await db.SecretTexts.AsNoTracking().SingleAsync();
            var state = await service.Api.ActAsync("vault/rotate-key", WireJson.Default.VaultState, default);
            (state.Secrets, state.Texts).ShouldBe((1, 1));
            var after = await db.SecretTexts.AsNoTracking().SingleAsync();
            after.Cipher.ShouldNotBe(before.Cipher);
            (await db.VaultKeys.AsNoTracking().Select(k => k.Id).ToListAsync()).ShouldBe([after.KeyId]);
            after.KeyId.ShouldNotBe(before.KeyId);
        }
        await service.RestartAsync();
        (await RevealAsync(service.Api, made.Id, "after a restart")).Secret.ShouldBe(Password);
        // Put in another's place, it opens nothing.
        await using var other = service.Get<IDatabase>().Open();
        var row = await other.SecretTexts.SingleAsync();
        row.Number.ShouldBe(1);
        Should.Throw<System.Security.Cryptography.CryptographicException>(() => service.Get<Vault>().Open(new SecretTextRow { SecretId = row.SecretId, Number = 2, KeyId = row.KeyId, Cipher = row.Cipher }));
        var files = Directory.EnumerateFiles(service.In("."), "*", SearchOption.AllDirectories).Where(f => !f.Contains("/hosts/", StringComparison.Ordinal)).ToList();
        files.Count.ShouldBeGreaterThan(3);
        foreach (var file in files)
        {
            Encoding.Latin1.GetString(await ReadSharedAsync(file)).ShouldNotContain(Password, Case.Sensitive, file);
        }
    }

    [Fact]
    public async Task What_an_older_version_kept_is_taken_over_at_the_next_start()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = (await service.HostAsync("quay-ticket-01")).Id;
        var older = service.Get<IDataProtectionProvider>().CreateProtector("vault").Protect(Key);
        await using (var db = service.Get<IDatabase>().Open())
        {
            db.Secrets.Add(new SecretRow { Id = Guid.CreateVersion7(), HostId = host, Kind = "access-key", Protected = older, CreatedAt = DateTimeOffset.UtcNow, CreatedBy = "host quay-ticket-01" });
            await db.SaveChangesAsync();
        }
        await service.RestartAsync();
        var taken = (await service.Api.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Items.Single();
        (taken.Number, taken.ChangedBy).ShouldBe((1, "host quay-ticket-01"));
        (await RevealAsync(service.Api, taken.Id, "is it still there")).Secret.ShouldBe(Key);
    }

    [Fact]
    public async Task A_backup_is_worth_nothing_without_its_passphrase_and_puts_back_what_is_missing()
    {
        await using var service = await TestService.StartAsync();
        var groups = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items;
        var till = await KeepAsync(service, new NewSecret(SecretKind.Logon, "first", GroupId: groups[0].Id, Name: "till"));
        await service.Api.PatchAsync($"secrets/{till.Id}", new SecretChange(Password), till.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, default);
        await KeepAsync(service, new NewSecret(SecretKind.Logon, "stays as it is", GroupId: groups[0].Id, Name: "other"));
        (await Should.ThrowAsync<ApiException>(() => BackUpAsync(service, "short"))).Message.ShouldContain("16 at least");
        var backup = await BackUpAsync(service, "a long passphrase of words");
        Encoding.Latin1.GetString(backup.Data).ShouldNotContain(Password);

        await service.Api.ActAsync(HttpMethod.Delete, $"secrets/{till.Id}", default);
        (await Should.ThrowAsync<ApiException>(() => RestoreAsync(service, "another passphrase of words", backup))).Message.ShouldContain("passphrase is not the one");
        (await Should.ThrowAsync<ApiException>(() => RestoreAsync(service, "a long passphrase of words", backup with { Iterations = 1_000_000_000 }))).Message.ShouldContain("no backup of a vault");
        var done = await RestoreAsync(service, "a long passphrase of words", backup);
        (done.Restored, done.Kept, done.LeftOut.Count).ShouldBe((1, 1, 0));
        var back = (await service.Api.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Items.Single(s => s.Name == "till");
        (await RevealAsync(service.Api, back.Id, "is it back")).Secret.ShouldBe(Password);
        (await RevealAsync(service.Api, back.Id, "and its history", 1)).Secret.ShouldBe("first");
    }

    [Fact]
    public async Task A_command_is_run_with_the_key_from_the_vault_by_whoever_may_use_it_also_when_the_host_returns()
    {
        await using var service = await TestService.StartAsync();
        Guid host;
        await using (var agent = await GuardedAsync(service))
        {
            host = agent.Id;
            var wish = new NewJob("quay-ticket-01", Uname, UsesVault: true);
            (await AccessKeyTests.RunAsync(service, wish)).Reason!.ShouldContain("The vault has no access key of quay-ticket-01. Put it there: umbrek secret keep 'quay-ticket-01'.");
            var kept = await KeepAsync(service, new NewSecret(SecretKind.AccessKey, "harbour lamp eight gulls", HostId: host));
            (await AccessKeyTests.RunAsync(service, wish)).Reason!.ShouldContain("is not the one that the host has");
            await service.Api.PatchAsync($"secrets/{kept.Id}", new SecretChange(Key), kept.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, default);
            (await AccessKeyTests.RunAsync(service, wish)).State.ShouldBe(RunState.Succeeded);
            using var tomasz = await service.JoinedByAsync("Tomasz Vail");
            (await AccessKeyTests.RunAsync(service, wish, tomasz)).State.ShouldBe(RunState.Succeeded);
            await service.Api.PostAsync("roles", new NewRole("runner", [Permission.See, Permission.Run], null), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
            using var priya = await service.JoinedByAsync("Priya Lund", "runner");
            (await Should.ThrowAsync<ApiException>(() => AccessKeyTests.RunAsync(service, wish, priya))).Message.ShouldContain("'use-secrets'");
            (await service.Api.GetAsync("audit?action=secret.use", WireJson.Default.PageAuditInfo, default)).Items.Select(l => l.Actor).Distinct().Order().ShouldBe(["Ines Okafor", "Tomasz Vail"]);
        }
        await Wait.UntilAsync(async () => (await service.HostAsync("quay-ticket-01")).Presence.State != Core.Estate.PresenceState.Linked, "the host to be away");
        var job = await service.Api.PostAsync("jobs", new NewJob("quay-ticket-01", Uname, UsesVault: true), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await using var again = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single().State == RunState.Succeeded, "the run to be delivered with the key proven");
    }

    [Fact]
    public async Task Keys_of_a_selection_are_changed_in_the_vault_and_on_the_hosts_also_on_one_that_returns_later()
    {
        await using var service = await TestService.StartAsync();
        await using var first = await GuardedAsync(service);
        await using var second = await RunningAgent.StartAsync(service, "quay-ticket-02");
        await service.EnrolAsync("quay-ticket-03");
        var started = await RotateAsync(service, "quay-*");
        await Wait.UntilAsync(async () => (started = await RotationAsync(service, started.Info.Id)).Info.Waiting == 1, "the linked hosts to have been asked");
        started.Hosts.Select(h => (h.Label, h.State)).ShouldBe([("quay-ticket-01", KeyRotationState.Failed), ("quay-ticket-02", KeyRotationState.Changed), ("quay-ticket-03", KeyRotationState.Waiting)]);
        started.Hosts[0].Reason!.ShouldContain("The vault has no access key of quay-ticket-01");
        (await Should.ThrowAsync<ApiException>(() => RotateAsync(service, "quay-ticket-03"))).Message.ShouldContain("waits for another key already");

        // A restart of the service in between loses nothing of it.
        await service.RestartAsync();
        await using var third = await RunningAgent.StartAsync(service, "quay-ticket-03");
        await Wait.UntilAsync(async () => (started = await RotationAsync(service, started.Info.Id)).Info.IsOver, "the last host to have its key");
        started.Info.Changed.ShouldBe(2);

        await KeepAsync(service, new NewSecret(SecretKind.AccessKey, Key, HostId: first.Id));
        var again = await RotateAsync(service, "all", endSessions: true);
        await Wait.UntilAsync(async () => (again = await RotationAsync(service, again.Info.Id)).Info.IsOver, "all keys to be changed");
        again.Info.Changed.ShouldBe(3, string.Join(" ", again.Hosts.Select(h => h.Reason)));
        var keys = new List<string>();
        foreach (var secret in (await service.Api.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Items)
        {
            keys.Add((await RevealAsync(service.Api, secret.Id, "to compare")).Secret);
            (await Umbrek.Wire.Sessions.HostDoor.OpenAsync(service.Api, null, secret.HostId!.Value, ChannelBinding.AccessKey, keys[^1], default)).Session.Id.ShouldNotBe(Guid.Empty);
        }
        keys.Distinct().Count().ShouldBe(3);
    }

    [Fact]
    public async Task More_hosts_than_are_asked_at_once_all_get_their_command()
    {
        await using var service = await TestService.StartAsync();
        var agents = new List<RunningAgent>();
        for (var i = 1; i <= 20; i++)
        {
            agents.Add(await RunningAgent.StartAsync(service, $"quay-ticket-{i:00}", state => HostLimit.Write(state.LimitFile, new HostPolicyPart(KeyFor: [HostAct.Run]))));
        }
        var rotation = await RotateAsync(service, "all");
        await Wait.UntilAsync(async () => (rotation = await RotationAsync(service, rotation.Info.Id)).Info.IsOver, "every host to have its key");
        rotation.Info.Changed.ShouldBe(20);
        var job = await service.Api.PostAsync("jobs", new NewJob("all", Uname, UsesVault: true), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Ended == 20, "every run to end");
        (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Succeeded.ShouldBe(20);
        await Task.WhenAll(agents.Select(a => a.DisposeAsync().AsTask()));
    }

    [Fact]
    public async Task A_key_that_was_on_its_way_when_the_service_broke_is_tried_first()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        await KeepAsync(service, new NewSecret(SecretKind.AccessKey, "what it was before all this", HostId: agent.Id));
        // As it is left when the host has taken the key and nobody could write that down.
        await using (var db = service.Get<IDatabase>().Open())
        {
            var vault = service.Get<VaultService>();
            var (row, _) = await vault.KeyOfAsync(db, agent.Id, default);
            await vault.ProposeAsync(db, row, agent.Id, Encoding.UTF8.GetBytes(Key), "Ines Okafor", default);
        }
        var run = await AccessKeyTests.RunAsync(service, new NewJob("quay-ticket-01", Uname, UsesVault: true));
        run.State.ShouldBe(RunState.Succeeded, run.Reason);
        var secret = (await service.Api.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Items.Single();
        (await RevealAsync(service.Api, secret.Id, "which counts")).ShouldBe(new RevealedSecret(Key, null, 2));
    }

    private static async Task<RunningAgent> GuardedAsync(TestService service)
    {
        var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state =>
        {
            HostLimit.Write(state.LimitFile, new HostPolicyPart(KeyFor: [HostAct.Run]));
            new HostKeys(state, null, TimeProvider.System).Set(KeptKey.Of(Key, service.Get<Umbrek.Service.Hosting.ServiceKey>().Sha256));
        });
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{agent.Id}/policy", WireJson.Default.PolicyInfo, default)).Side?.InForce.KeyFor?.Contains(HostAct.Run) == true, "the host to say what it asks its key for");
        return agent;
    }

    private static Task<SecretInfo> KeepAsync(TestService service, NewSecret wish) => service.Api.PostAsync("secrets", wish, WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);

    private static Task<RevealedSecret> RevealAsync(ApiClient who, Guid id, string why, int? number = null) =>
        who.PostAsync($"secrets/{id}/reveal", new RevealRequest(why, number), WireJson.Default.RevealRequest, WireJson.Default.RevealedSecret, default);

    private static Task<VaultBackup> BackUpAsync(TestService service, string passphrase) =>
        service.Api.PostAsync("vault/backup", new VaultBackupRequest(passphrase), WireJson.Default.VaultBackupRequest, WireJson.Default.VaultBackup, default);

    private static Task<VaultRestored> RestoreAsync(TestService service, string passphrase, VaultBackup backup) =>
        service.Api.PostAsync("vault/restore", new VaultRestore(passphrase, backup), WireJson.Default.VaultRestore, WireJson.Default.VaultRestored, default);

    private static Task<KeyRotationDetail> RotateAsync(TestService service, string selection, bool endSessions = false) =>
        service.Api.PostAsync("key-rotations", new NewKeyRotation(selection, endSessions), WireJson.Default.NewKeyRotation, WireJson.Default.KeyRotationDetail, default);

    private static Task<KeyRotationDetail> RotationAsync(TestService service, Guid id) => service.Api.GetAsync($"key-rotations/{id}", WireJson.Default.KeyRotationDetail, default);

    private static async Task<byte[]> ReadSharedAsync(string file)
    {
        await using var stream = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        using var copy = new MemoryStream();
        await stream.CopyToAsync(copy);
        return copy.ToArray();
    }
}
