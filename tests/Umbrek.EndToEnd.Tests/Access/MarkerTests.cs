using System.Net;
using System.Text;
using Umbrek.Core.Access;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Sessions;

namespace Umbrek.EndToEnd.Tests.Access;

/// <summary>Secrets that are typed, sent and kept: none of them is in any log, nor in clear in any file of the service or the agent.</summary>
public sealed class MarkerTests
{
    [Fact]
    public async Task No_secret_is_in_a_log_or_in_clear_in_a_file()
    {
        var markers = new Dictionary<string, string>();
        string Mark(string what) => markers[what] = $"marker {what} 7c1f-quay-lantern";
        await using var world = await World.StartAsync(ownProcess: true, options: file => ["--sign-on", "http://127.0.0.1:9", "--sign-on-client", "umbrek", "--sign-on-secret", file("none")]);
        var api = world.Api;

        await api.PostAsync("technicians", new NewTechnician("Tomasz Vail", Mark("password")), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, default);
        using var anonymous = new ApiClient(world.Address, world.Pin);
        Task<SignInAnswer> SignInAsync(string name, string password, string? code = null) => anonymous.PostAsync("sign-in", new SignInRequest(name, password, SignInUse.Token, "desk", code, Mark("device key")), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
        await Should.ThrowAsync<ApiException>(() => SignInAsync("Tomasz Vail", Mark("wrong password")));
        await Should.ThrowAsync<ApiException>(() => SignInAsync(Mark("password in the field for the name"), "x"));
        var signedIn = await SignInAsync("Tomasz Vail", markers["password"]);
        markers["bearer token"] = signedIn.Token!;
        using var tomasz = new ApiClient(world.Address, world.Pin, signedIn.Token);
        await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync("me/second-factor", new PasswordProof(Mark("wrong proof")), WireJson.Default.PasswordProof, WireJson.Default.SecondFactorOffer, default));
        markers["secret of a second factor"] = (await tomasz.PostAsync("me/second-factor", new PasswordProof(markers["password"]), WireJson.Default.PasswordProof, WireJson.Default.SecondFactorOffer, default)).Secret;
        markers["token of a script"] = (await tomasz.PostAsync("me/tokens", new NewToken("report", [Permission.See], DateTimeOffset.UtcNow.AddDays(1), markers["password"]), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default)).Token;
        await tomasz.PostAsync("me/password", new PasswordChange(markers["password"], Mark("new password")), WireJson.Default.PasswordChange, WireJson.Default.Int32, default);
        // What the service can't read is in no log either.
        using (var http = new HttpClient(ApiClient.Handler(world.Pin)) { BaseAddress = world.Address })
        {
            foreach (var body in new[] { "{\"name\":\"x\",\"password\":\"" + Mark("in broken json"), "{\"name\":\"x\",\"password\":{\"" + Mark("in json of another kind") + "\":1}}" })
            {
                using var content = new StringContent(body, Encoding.UTF8, "application/json");
                (await http.PostAsync("api/v1/sign-in", content)).StatusCode.ShouldBe(HttpStatusCode.BadRequest);
            }
            await http.GetAsync($"sso/return?state=x&code={Uri.EscapeDataString(Mark("code of a provider"))}");
        }

        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, Policy: HostPolicy.Everything with { KeyFor = [HostAct.Run] }));
        markers["enrolment token"] = installer.Token.Split('.')[0];
        var agent = await world.JoinAsync("quay-ticket-01", installer.Token);
        var host = (await world.HostAsync("quay-ticket-01")).Id;
        await HostDoor.ChangeKeyAsync(api, world.Pin, host, null, Mark("access key"), false, default);
        await Should.ThrowAsync<DoorException>(() => HostDoor.OpenAsync(api, world.Pin, host, ChannelBinding.AccessKey, Mark("wrong access key"), default));
        await Should.ThrowAsync<DoorException>(() => HostDoor.ChangeKeyAsync(api, world.Pin, host, markers["wrong access key"], Mark("new access key"), false, default));
        await HostDoor.OpenAsync(api, world.Pin, host, ChannelBinding.AccessKey, markers["access key"], default);

        var kept = await api.PostAsync("secrets", new NewSecret(SecretKind.AccessKey, markers["access key"], HostId: host), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);
        var logon = await api.PostAsync("secrets", new NewSecret(SecretKind.Logon, Mark("logon"), HostId: host, Name: "root"), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);
        await api.PatchAsync($"secrets/{logon.Id}", new SecretChange(Mark("new logon")), logon.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, default);
        (await api.PostAsync($"secrets/{kept.Id}/reveal", new RevealRequest("to compare"), WireJson.Default.RevealRequest, WireJson.Default.RevealedSecret, default)).Secret.ShouldBe(markers["access key"]);
        var backup = await api.PostAsync("vault/backup", new VaultBackupRequest(Mark("passphrase")), WireJson.Default.VaultBackupRequest, WireJson.Default.VaultBackup, default);
        await Should.ThrowAsync<ApiException>(() => api.PostAsync("vault/restore", new VaultRestore(Mark("wrong passphrase"), backup), WireJson.Default.VaultRestore, WireJson.Default.VaultRestored, default));
        await api.ActAsync("vault/rotate-key", WireJson.Default.VaultState, default);
        await world.SignInClientAsync();
        await File.WriteAllTextAsync(world.In("client key"), markers["access key"]);
        (await world.ClientAsync(null, "run", "--on", "quay-ticket-01", "--access-key-file", world.In("client key"), "--", "echo done")).Stdout.ShouldContain("done");
        (await world.ClientAsync(null, "run", "--on", "quay-ticket-01", "--from-vault", "--", "echo done")).Stdout.ShouldContain("done");
        var audit = await world.ClientAsync(null, "audit", "export");

        // A marker that is looked for in the right way is found: the note of a secret is no secret.
        await api.PatchAsync($"secrets/{kept.Id}", new SecretChange(Note: "marker to be found"), kept.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, default);
        (await FoundAsync("marker to be found", world.In("service"))).ShouldNotBeEmpty();
        markers.Count.ShouldBe(20);
        foreach (var (what, text) in markers)
        {
            foreach (var line in world.Service.Lines.Concat(agent.Lines))
            {
                line.ShouldNotContain(text, Case.Sensitive, what);
            }
            audit.Stdout.ShouldNotContain(text, Case.Sensitive, what);
            (await FoundAsync(text, world.In("service"))).ShouldBe("", what);
            if (what.Contains("key", StringComparison.Ordinal) || what.Contains("logon", StringComparison.Ordinal))
            {
                (await FoundAsync(text, world.StateOf("quay-ticket-01"))).ShouldBe("", what);
            }
        }
    }

    /// <returns>The files that hold the text, as it is or as JSON escapes it.</returns>
    private static async Task<string> FoundAsync(string text, string directory) => (await TestPrograms.RunAsync("/bin/grep", ["-rlaF", "-e", text, directory])).Stdout;
}
