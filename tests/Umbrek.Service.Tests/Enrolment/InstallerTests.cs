using System.Net;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Audit;
using Umbrek.Service.Access;
using Umbrek.Service.Storage;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Tests.Enrolment;

public sealed class InstallerTests
{
    [Fact]
    public async Task An_installer_keeps_what_it_was_made_with_and_can_be_handed_out_again_after_a_restart()
    {
        await using var service = await TestService.StartAsync();
        var wish = new NewInstaller(TestService.Group, "new kiosks", 3600, 3, new HostPolicy([HostAct.Run, HostAct.Watch], ConsentRule.Always), AccessKeyRule.Generate, true);
        var made = await service.NewInstallerAsync(wish);
        await service.RestartAsync();
        var read = await service.Api.GetAsync($"installers/{made.Info.Id}", WireJson.Default.InstallerDetail, default);
        read.Token.ShouldBe(made.Token);
        read.Link.ShouldBe(made.Link);
        read.Info.Policy.ShouldBe(new HostPolicy([HostAct.Watch, HostAct.Run], ConsentRule.Always));
        (read.Info.Note, read.Info.MaxUses, read.Info.AccessKey, read.Info.ApprovalNeeded).ShouldBe(("new kiosks", 3, AccessKeyRule.Generate, true));

        await using var db = service.Get<IDatabase>().Open();
        var stored = await db.Installers.AsNoTracking().FirstAsync();
        stored.ProtectedToken.ShouldNotContain(made.Token.Split('.')[0]);
    }

    [Fact]
    public async Task Its_link_tells_what_it_is_gives_script_agent_and_package_and_ends_with_it()
    {
        await using var service = await TestService.StartAsync();
        var made = await service.NewInstallerAsync(new NewInstaller(TestService.Group, Note: "from Ines"));
        var secret = made.Link.Split('/')[^1];
        var offer = JsonSerializer.Deserialize((await service.SendAsync(HttpMethod.Get, $"/api/v1/offers/{secret}", signedIn: false)).Body, WireJson.Default.InstallerOffer)!;
        (offer.Customer, offer.GroupPath, offer.Note, offer.Refusal).ShouldBe(("Saltmarsh Ferry", TestService.Group, "from Ines", null));

        using var http = new HttpClient { BaseAddress = service.Address };
        var agent = await http.GetByteArrayAsync($"/get/{secret}/agent");
        Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(agent)).ShouldBe(offer.AgentSha256);
        var script = await http.GetStringAsync($"/get/{secret}/install");
        script.ShouldContain(offer.AgentSha256);
        script.ShouldContain(made.Token);
        using var directory = new TestDirectory();
        await File.WriteAllTextAsync(directory.In("install.sh"), script);
        (await TestPrograms.RunAsync("/bin/sh", ["-n", directory.In("install.sh")])).Status.ShouldBe(0);

        await service.Api.ActAsync(HttpMethod.Post, $"installers/{made.Info.Id}/revoke", default);
        foreach (var part in new[] { "install", "agent", "package" })
        {
            var answer = await service.SendAsync(HttpMethod.Get, $"/get/{secret}/{part}", signedIn: false);
            answer.Status.ShouldBe(HttpStatusCode.Forbidden, part);
            answer.Body.ShouldContain("revoked");
        }
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/offers/{secret}", signedIn: false)).Body.ShouldContain("revoked");
    }

    [Fact]
    public async Task The_package_is_one_that_the_system_reads()
    {
        await using var service = await TestService.StartAsync();
        var made = await service.NewInstallerAsync(new NewInstaller(TestService.Group));
        using var directory = new TestDirectory();
        using (var response = await service.Api.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}installers/{made.Info.Id}/package"), default))
        {
            response.Content.Headers.ContentDisposition!.FileNameStar.ShouldNotBeNull().ShouldMatch(@"^umbrek-agent_.*_amd64\.deb$");
            await using var file = File.Create(directory.In("agent.deb"));
            await response.Content.CopyToAsync(file);
        }
        var info = await TestPrograms.RunAsync("/usr/bin/dpkg-deb", ["--info", directory.In("agent.deb")]);
        info.Status.ShouldBe(0, info.Stderr);
        info.Stdout.ShouldContain("Package: umbrek-agent");
        var unpacked = await TestPrograms.RunAsync("/usr/bin/dpkg-deb", ["--raw-extract", directory.In("agent.deb"), directory.In("x")]);
        unpacked.Status.ShouldBe(0, unpacked.Stderr);
        File.GetUnixFileMode(directory.In("x/etc/umbrek-agent/installer.json")).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        JsonSerializer.Deserialize(await File.ReadAllBytesAsync(directory.In("x/etc/umbrek-agent/installer.json")), WireJson.Default.InstallerSettings)!.Token.ShouldBe(made.Token);
        foreach (var script in new[] { "postinst", "prerm", "postrm" })
        {
            (await TestPrograms.RunAsync("/bin/sh", ["-n", directory.In($"x/DEBIAN/{script}")])).Status.ShouldBe(0);
        }
    }

    [Fact]
    public async Task Guessing_is_slowed_down_and_written_into_the_audit_log_whose_chain_holds()
    {
        await using var service = await TestService.StartAsync();
        await service.NewInstallerAsync(new NewInstaller(TestService.Group));
        var real = Core.Enrolment.EnrolmentTokenText.Parse(await service.NewTokenAsync())!;
        HttpStatusCode last = default;
        for (var i = 0; i < 25; i++)
        {
            using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
            var guess = Core.Enrolment.EnrolmentTokenText.Create(real.ServiceKeySha256);
            var request = new EnrolmentRequest(guess.ToString(), "a-stranger", null, key.ExportSubjectPublicKeyInfo(), Core.Links.LinkProof.SignEnrolment(key, guess.ServiceKeySha256, guess.Secret), "0.1.0");
            last = (await service.SendAsync(HttpMethod.Post, "/api/v1/enrolments", JsonSerializer.Serialize(request, WireJson.Default.EnrolmentRequest), signedIn: false)).Status;
        }
        last.ShouldBe(HttpStatusCode.TooManyRequests);
        var refused = await service.Api.GetAsync("audit?action=enrolment.refuse", WireJson.Default.PageAuditInfo, default);
        refused.Total.ShouldBe(20);
        refused.Items.ShouldAllBe(a => a.Target == "a-stranger" && a.Address == "127.0.0.1" && a.Detail.Contains("Unknown"));

        var all = (await service.Api.GetAsync("audit", WireJson.Default.PageAuditInfo, default)).Items;
        var hash = AuditChain.Start;
        foreach (var line in all.Reverse())
        {
            hash = AuditChain.Next(hash, new AuditEntry(line.Number, line.At, line.Actor, line.Address, line.Action, line.Target, line.Detail));
            line.Hash.ShouldBe(Convert.ToHexStringLower(hash));
        }
        all.Count(a => a.Action.StartsWith("enrolment.", StringComparison.Ordinal) || a.Action.StartsWith("installer.", StringComparison.Ordinal)).ShouldBe(22);
    }

    [Theory]
    [InlineData("""{"groupPath":"Saltmarsh Ferry/Nowhere"}""", "no group")]
    [InlineData("""{"groupPath":""}""", "which group")]
    [InlineData("""{"groupPath":"Saltmarsh Ferry/Quay","maxUses":0}""", "1 to 100000")]
    [InlineData("""{"groupPath":"Saltmarsh Ferry/Quay","expiresInSeconds":5}""", "from a minute")]
    [InlineData("""{"groupPath":"Saltmarsh Ferry/Quay","policy":{"allowed":["fly"],"consent":"never"}}""", "not the JSON")]
    [InlineData("""{"groupPath":"Saltmarsh Ferry/Quay","policy":{"consent":"never"}}""", "host policy")]
    [InlineData("""{"groupPath":"Saltmarsh Ferry/Quay","note":"\u202Ereversed"}""", "invisible character")]
    public async Task A_wish_that_can_not_be_met_is_refused_in_a_sentence(string json, string word)
    {
        await using var service = await TestService.StartAsync();
        var answer = await service.SendAsync(HttpMethod.Post, "/api/v1/installers", json);
        ((int)answer.Status).ShouldBeInRange(400, 404);
        answer.Body.ShouldContain(word);
        (await service.Api.GetAsync("installers", WireJson.Default.PageInstallerInfo, default)).Total.ShouldBe(0);
    }

    [Fact]
    public async Task A_generated_access_key_reaches_the_vault_encrypted()
    {
        await using var service = await TestService.StartAsync();
        var installer = await service.NewInstallerAsync(new NewInstaller(TestService.Group, AccessKey: AccessKeyRule.Generate));
        var (identity, _) = await service.EnrolAsync("quay-ticket-01", installer.Token, accessKey: AccessKeyRule.Generate);
        await using var db = service.Get<IDatabase>().Open();
        var secret = await db.Secrets.AsNoTracking().SingleAsync();
        secret.HostId.ShouldBe(identity.HostId);
        var text = await db.SecretTexts.AsNoTracking().SingleAsync();
        var key = System.Text.Encoding.UTF8.GetString(service.Get<Vault>().Open(text));
        AccessKey.Check(key).ShouldBeNull();
        System.Text.Encoding.Latin1.GetString(text.Cipher).ShouldNotContain(key);
    }
}
