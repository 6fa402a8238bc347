using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Estate;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Tests.Hosting;

namespace Umbrek.Service.Tests.Estate;

public sealed class ChangeFeedTests
{
    [Fact]
    public async Task A_slow_reader_finds_each_key_once_and_a_closed_one_nothing()
    {
        var feed = new ChangeFeed<int>();
        var reader = feed.Subscribe();
        using (var other = feed.Subscribe())
        {
            for (var i = 0; i < 100; i++)
            {
                feed.Publish(i % 3);
            }
            (await reader.TakeAsync(default)).Order().ShouldBe([0, 1, 2]);
            (await other.TakeAsync(default)).Order().ShouldBe([0, 1, 2]);
        }
        var next = reader.TakeAsync(default);
        next.IsCompleted.ShouldBeFalse();
        feed.Publish(7);
        (await next).ShouldBe([7]);
        feed.HasReaders.ShouldBeTrue();
        reader.Dispose();
        feed.HasReaders.ShouldBeFalse();
    }

    [Fact]
    public async Task Nothing_is_missed_between_two_looks()
    {
        var feed = new ChangeFeed<int>();
        using var reader = feed.Subscribe();
        var seen = new HashSet<int>();
        var writing = Task.Run(() =>
        {
            for (var i = 0; i < 20_000; i++)
            {
                feed.Publish(i);
            }
        });
        while (seen.Count < 20_000)
        {
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
            seen.UnionWith(await reader.TakeAsync(limit.Token));
        }
        await writing;
    }

    [Fact]
    public async Task After_a_restart_a_host_that_does_not_return_has_lost_contact_since_it_was_last_heard()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await using var host = await service.LinkAsync("dunlin-log-01");
        var heard = (await service.HostAsync("dunlin-log-01")).LastSeenAt;
        await service.RestartAsync();
        var estate = service.Get<EstateIndex>();
        estate.Settle(time.GetUtcNow()).ShouldBeEmpty();
        time.Advance(TimeSpan.FromSeconds(Presence.ReturnGraceSeconds + 1));
        estate.Settle(time.GetUtcNow());
        var after = (await service.HostAsync("dunlin-log-01")).Presence;
        (after.State, after.Reason).ShouldBe((PresenceState.Away, AwayReason.LostContact));
        (after.Since - heard).Duration().ShouldBeLessThan(TimeSpan.FromSeconds(1));
    }

    [Fact]
    public async Task An_address_that_failed_too_often_is_heard_again_after_a_minute()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var limiter = new FailureLimiter(time);
        var (one, two) = (From("192.0.2.1"), From("192.0.2.2"));
        for (var i = 0; i < FailureLimiter.Most; i++)
        {
            await Should.ThrowAsync<ProblemException>(() => limiter.GuardAsync<int>(one, () => throw ProblemException.Invalid("wrong")));
        }
        (await Should.ThrowAsync<ProblemException>(() => limiter.GuardAsync(one, () => Task.FromResult(1)))).Problem.Status.ShouldBe(429);
        (await limiter.GuardAsync(two, () => Task.FromResult(2))).ShouldBe(2);
        time.Advance(TimeSpan.FromSeconds(61));
        (await limiter.GuardAsync(one, () => Task.FromResult(3))).ShouldBe(3);
    }

    private static DefaultHttpContext From(string address) => new() { Connection = { RemoteIpAddress = System.Net.IPAddress.Parse(address) } };
}
