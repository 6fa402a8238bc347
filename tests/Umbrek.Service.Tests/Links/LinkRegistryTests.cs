using System.Collections.Concurrent;
using System.Security.Claims;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.AspNetCore.SignalR;
using Umbrek.Core.Enrolment;
using Umbrek.Service.Links;

namespace Umbrek.Service.Tests.Links;

public sealed class LinkRegistryTests
{
    private readonly LinkRegistry registry = new();
    private readonly Guid host = Guid.CreateVersion7();

    [Fact]
    public void A_newer_connection_takes_the_place_of_the_older_and_cuts_it()
    {
        var (old, fresh) = (Link("a"), Link("b"));
        registry.Register(old);
        registry.Register(fresh);
        Cut(old).ShouldBeTrue();
        Cut(fresh).ShouldBeFalse();
        registry.Find(host).ShouldBe(fresh);
        registry.Count.ShouldBe(1);
    }

    [Fact]
    public void The_same_connection_registered_again_is_not_cut()
    {
        var link = Link("a");
        registry.Register(link);
        registry.Register(link);
        Cut(link).ShouldBeFalse();
        registry.All.ShouldHaveSingleItem().ShouldBe(link);
    }

    [Fact]
    public void The_late_end_of_an_older_connection_leaves_the_newer_registered()
    {
        var (old, fresh) = (Link("a"), Link("b"));
        registry.Register(old);
        registry.Register(fresh);
        registry.Unregister(old).ShouldBeFalse();
        registry.Find(host).ShouldBe(fresh);
        registry.Unregister(fresh).ShouldBeTrue();
        registry.Unregister(fresh).ShouldBeFalse();
        registry.Find(host).ShouldBeNull();
        registry.Count.ShouldBe(0);
    }

    [Fact]
    public void Of_many_connections_of_one_host_at_once_one_is_left_and_all_others_are_cut()
    {
        var links = Enumerable.Range(0, 64).Select(i => Link($"{i}")).ToList();
        Parallel.ForEach(links, registry.Register);
        var left = registry.Find(host).ShouldNotBeNull();
        Cut(left).ShouldBeFalse();
        links.Where(l => !ReferenceEquals(l, left)).ShouldAllBe(l => Cut(l));
        // Each of those that were cut says so, in any order.
        var ended = new ConcurrentBag<bool>();
        Parallel.ForEach(links.Where(l => !ReferenceEquals(l, left)), l => ended.Add(registry.Unregister(l)));
        ended.ShouldAllBe(e => !e);
        registry.Find(host).ShouldBe(left);
    }

    [Fact]
    public void Hosts_do_not_touch_each_other()
    {
        var (one, other) = (Link("a"), Link("b") with { HostId = Guid.CreateVersion7() });
        registry.Register(one);
        registry.Register(other);
        registry.Unregister(other).ShouldBeTrue();
        Cut(one).ShouldBeFalse();
        registry.Find(host).ShouldBe(one);
    }

    private LinkEntry Link(string connection) => new(host, connection, new Caller(connection), new MachineMark(null, "hardware", "boot"));

    private static bool Cut(LinkEntry link) => link.Caller.ConnectionAborted.IsCancellationRequested;

    private sealed class Caller(string connection) : HubCallerContext
    {
        private readonly CancellationTokenSource aborted = new();

        public override string ConnectionId => connection;
        public override string? UserIdentifier => null;
        public override ClaimsPrincipal? User => null;
        public override IDictionary<object, object?> Items { get; } = new Dictionary<object, object?>();
        public override IFeatureCollection Features { get; } = new FeatureCollection();
        public override CancellationToken ConnectionAborted => aborted.Token;

        public override void Abort() => aborted.Cancel();
    }
}
