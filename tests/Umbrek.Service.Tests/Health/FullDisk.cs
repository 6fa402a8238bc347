using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.Service.Tests.Health;

/// <summary>A host that counts as linked, without a link of its own.</summary>
internal sealed record Joined(Guid Id, string Name);

/// <summary>Hosts whose disk is full, or is full no more, in a service whose clock the test turns.</summary>
internal static class FullDisk
{
    public const string Check = "storage-high";

    public static async Task<Joined> LinkedAsync(this TestService service, FakeTimeProvider time, string name)
    {
        var (identity, _) = await service.EnrolAsync(name);
        service.Get<EstateIndex>().Linked(identity.HostId, name, "0.1.0", null, time.GetUtcNow());
        return new Joined(identity.HostId, name);
    }

    public static Task RaiseAsync(this TestService service, FakeTimeProvider time, Joined host) => SampledAsync(service, time, host, 92, there: true);

    public static Task ClearAsync(this TestService service, FakeTimeProvider time, Joined host) => SampledAsync(service, time, host, 60, there: false);

    private static Task SampledAsync(TestService service, FakeTimeProvider time, Joined host, double percent, bool there) => Wait.UntilAsync(
        async () =>
        {
            service.Get<EstateIndex>().Linked(host.Id, host.Name, "0.1.0", null, time.GetUtcNow());
            await service.Get<Intake>().SamplesAsync(host.Id, [new Sample { At = time.GetUtcNow(), MemoryTotalBytes = 4L << 30, MemoryAvailableBytes = 2L << 30, FileSystems = [new FileSystemSample("/", "ext4", 100L << 30, (long)(percent * (1L << 30)), (long)((100 - percent) * (1L << 30)))] }]);
            time.Advance(TimeSpan.FromSeconds(15));
            return service.Get<AlertBook>().Current.Any(a => a.HostId == host.Id) == there;
        },
        there ? "the alert" : "it to clear");
}
