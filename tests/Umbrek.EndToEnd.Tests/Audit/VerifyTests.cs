using System.Diagnostics;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Audit;

public sealed class VerifyTests
{
    [Theory]
    [InlineData("""UPDATE Audit SET Actor='Somebody Else' WHERE Number=4""", "Line 4 (group.create")]
    [InlineData("""DELETE FROM Audit WHERE Number=4""", "Line 4 is missing.")]
    [InlineData("""DELETE FROM Audit WHERE Number>4""", "lines were cut off its end")]
    [InlineData("""UPDATE Audit SET Number=-Number WHERE Number IN (4,5); UPDATE Audit SET Number=9+Number WHERE Number<0""", "Line 4 (")]
    public async Task A_row_that_somebody_changed_in_the_database_is_found_and_named(string sql, string finding)
    {
        await using var world = await World.StartAsync();
        await world.NewTokenAsync();
        await world.SignInClientAsync();
        var (status, said, _) = await world.ClientAsync(null, "audit", "verify");
        status.ShouldBe(0);
        said.ShouldContain("all as they were written");
        await world.StopServiceAsync();

        using (var sqlite = Process.Start("sqlite3", [Path.Combine(world.In("service"), "umbrek.db"), sql]))
        {
            await sqlite.WaitForExitAsync();
            sqlite.ExitCode.ShouldBe(0);
        }
        var offline = await TestPrograms.RunAsync("umbrekd", ["verify-audit", "--data", world.In("service")]);
        // Without what was seen earlier nothing tells that the end is gone.
        offline.Status.ShouldBe(sql.Contains('>') ? 0 : 1);
        await world.StartServiceAsync();
        (status, said, _) = await world.ClientAsync(null, "audit", "verify");
        status.ShouldBe(1);
        said.ShouldContain(finding);
        said.ShouldContain("not as it was written");
    }

    [Fact]
    public async Task The_log_is_read_narrowed_and_exported_in_the_console()
    {
        await using var world = await World.StartAsync();
        await world.NewTokenAsync();
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "People" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Audit" }).ClickAsync();
        await page.GetByText("installer.create").WaitForAsync();
        await page.GetByLabel("What was done begins with").FillAsync("technician");
        await page.GetByText("1 found").WaitForAsync();
        await page.GetByText("installer.create").WaitForAsync(new() { State = WaitForSelectorState.Detached });
        page.Url.ShouldContain("action=technician");
        var download = await page.RunAndWaitForDownloadAsync(() => page.GetByRole(AriaRole.Link, new() { Name = "Export as NDJSON" }).ClickAsync());
        var exported = await File.ReadAllTextAsync(await download.PathAsync());
        exported.Split('\n', StringSplitOptions.RemoveEmptyEntries).ShouldHaveSingleItem().ShouldContain("technician.create");
        await page.GetByLabel("To what").FillAsync("nobody at all");
        await page.GetByText("No line is like that").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }
}
