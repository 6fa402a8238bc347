using System.Diagnostics;
using Microsoft.Playwright;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Bench.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Links;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Bench.Estate;

/// <summary>The console in Chromium with thirty thousand hosts: how soon it shows something, how it scrolls, what it holds, and whether changes freeze it.</summary>
internal static class ConsoleBench
{
    private const int Hosts = 30_000;
    private const int Linked = 500;
    private const int Loads = 11;
    private static readonly TimeSpan Busy = TimeSpan.FromSeconds(20);

    /// <summary>Notes when the first row stands, every task over 50 ms (W3C Long Tasks) and the longest time between two frames.</summary>
    private const string Watch = """
        window.seen = { row: 0, tasks: [], frame: 0 };
        new PerformanceObserver(l => l.getEntries().forEach(e => window.seen.tasks.push(e.duration))).observe({ type: 'longtask', buffered: true });
        new MutationObserver((_, me) => {
          if (document.querySelector('.hosts-row.host')) { window.seen.row = performance.now(); me.disconnect(); }
        }).observe(document, { childList: true, subtree: true });
        let before = 0;
        const tick = at => { if (before) window.seen.frame = Math.max(window.seen.frame, at - before); before = at; requestAnimationFrame(tick); };
        requestAnimationFrame(tick);
        """;

    public static async Task RunAsync()
    {
        Console.WriteLine($"-- console with {Hosts} hosts");
        await using var estate = await KnownEstate.StartAsync(Hosts);
        var lights = await EnrolAsync(estate);
        await using var browser = await ConsoleBrowser.OpenAsync(estate.Pin, Watch);
        var page = browser.Page;
        await browser.SignInAsync(estate.Address, KnownEstate.Name, KnownEstate.Password);
        await page.GotoAsync($"{estate.Address}hosts");
        await page.Locator(".hosts-row.host").First.WaitForAsync();

        var first = new List<double>();
        var loading = new List<double>();
        for (var i = 0; i < Loads; i++)
        {
            await page.GotoAsync($"{estate.Address}hosts");
            await page.Locator($".counts b >> text='{Hosts + Linked}'").WaitForAsync();
            first.Add(await page.EvaluateAsync<double>("window.seen.row"));
            loading.Add(await LongestTaskAsync(page));
        }
        Figures.Alone("first rows, page loaded afresh", Figures.Median(first), "ms", "under 300 ms");
        Figures.Alone("first rows, from another page", await ReturnAsync(page), "ms", "under 300 ms");
        Figures.Alone("longest task while the rest arrives", Figures.Median(loading), "ms", "under 100 ms");
        Figures.Alone("memory with all hosts", await MemoryAsync(page), "MB", "bounded");

        await ForgetAsync(page);
        await ScrollAsync(page);
        Figures.Alone("longest frame while scrolling", await page.EvaluateAsync<double>("window.seen.frame"), "ms", "under 1000 ms");

        foreach (var address in new[] { "hosts", "hosts?sort=-processor", "hosts?group=none", "hosts?as=tiles" })
        {
            await page.GotoAsync($"{estate.Address}{address}");
            await page.Locator($".counts b >> text='{Hosts + Linked}'").WaitForAsync();
            await Task.Delay(1000);
            await ForgetAsync(page);
            var sent = await ChangeAsync(lights);
            Figures.Alone($"longest task, {sent / Busy.TotalSeconds:0} changes/s, {address}", await LongestTaskAsync(page), "ms", "under 100 ms");
        }
        Figures.Alone("memory after all that", await MemoryAsync(page), "MB", "bounded");
        foreach (var light in lights)
        {
            await light.DisposeAsync();
        }
    }

    /// <summary>From Work to Hosts within the console: milliseconds from the click to the first row.</summary>
    private static async Task<double> ReturnAsync(IPage page)
    {
        var times = new List<double>();
        for (var i = 0; i < Loads; i++)
        {
            await page.GetByRole(AriaRole.Link, new() { Name = "Work" }).ClickAsync();
            await page.GetByRole(AriaRole.Heading, new() { Name = "Work" }).WaitForAsync();
            times.Add(await page.EvaluateAsync<double>("""
                () => new Promise(done => {
                  const began = performance.now();
                  new MutationObserver((_, me) => {
                    if (document.querySelector('.hosts-row.host')) { me.disconnect(); done(performance.now() - began); }
                  }).observe(document, { childList: true, subtree: true });
                  document.querySelector('nav.places a[href="/hosts"]').click();
                })
                """));
        }
        return Figures.Median(times);
    }

    private static async Task ForgetAsync(IPage page) => await page.EvaluateAsync("() => { window.seen.tasks = []; window.seen.frame = 0; }");

    private static async Task<double> LongestTaskAsync(IPage page) => await page.EvaluateAsync<double>("Math.max(0, ...window.seen.tasks)");

    private static async Task ScrollAsync(IPage page) => await page.EvaluateAsync("""
        async () => {
          const list = document.querySelector('.hosts');
          for (let i = 0; i < 120; i++) {
            list.scrollTop = (list.scrollHeight - list.clientHeight) * i / 120;
            await new Promise(requestAnimationFrame);
          }
        }
        """);

    /// <summary>What scripts hold after a collection, in megabytes.</summary>
    private static async Task<double> MemoryAsync(IPage page)
    {
        var inspect = await page.Context.NewCDPSessionAsync(page);
        await inspect.SendAsync("HeapProfiler.collectGarbage");
        var answer = await inspect.SendAsync("Runtime.getHeapUsage");
        await inspect.DetachAsync();
        return answer!.Value.GetProperty("usedSize").GetDouble() / 1e6;
    }

    /// <summary>Every linked host sends a sample each second; returns how many were sent.</summary>
    private static async Task<int> ChangeAsync(List<LightHost> lights)
    {
        var clock = Stopwatch.GetTimestamp();
        var sent = 0;
        while (Stopwatch.GetElapsedTime(clock) < Busy)
        {
            await lights[sent % lights.Count].SendSampleAsync(default);
            sent++;
            var due = TimeSpan.FromSeconds((double)sent / Linked) - Stopwatch.GetElapsedTime(clock);
            if (due > TimeSpan.FromMilliseconds(5))
            {
                await Task.Delay(due);
            }
        }
        return sent;
    }

    private static async Task<List<LightHost>> EnrolAsync(KnownEstate estate)
    {
        var token = (await estate.Api.PostAsync("installers", new NewInstaller("Saltmarsh Ferry/Quay/Office"), WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default)).Token;
        var lights = new List<LightHost>();
        using var states = new Links.Scratch();
        foreach (var host in Scenario.Hosts(Hosts + Linked).Skip(Hosts))
        {
            var state = new StateDirectory(Path.Combine(states.Path, host.Name));
            var enrolled = await new Enroller(state, new SimulatedPlatform(host, TimeProvider.System)).EnrolAsync(estate.Address, token, null, AccessKeyChoice.None, default);
            var light = new LightHost(enrolled.Identity, host, TimeProvider.System);
            await light.ConnectAsync(default);
            await light.SendSampleAsync(default);
            lights.Add(light);
        }
        return lights;
    }
}
