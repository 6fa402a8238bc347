using Umbrek.Core.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Access;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Access;

public static class PolicyEndpoints
{
    public static void MapPolicies(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("").WithTags("Access");
        all.MapGet("/policies", async (PolicyService service, Asker by, CancellationToken cancel) =>
        {
            var places = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<PolicyPlace>(places, null, places.Count));
        }).Own().WithName("listPolicies").WithSummary("The places that say something of the host policy, as far as the caller may see them.");
        all.MapGet("/policy", async (PolicyService service, HttpContext http, CancellationToken cancel) => Answer(http, await service.EverywhereAsync(cancel).ConfigureAwait(false)))
            .Own().WithName("getPolicy").WithSummary("What is said of the host policy for everything.");
        all.MapPut("/policy", async (PolicyService service, HttpContext http, Asker by, HostPolicyPart part, CancellationToken cancel) =>
            Answer(http, await service.ChangeEverywhereAsync(part, http.IfMatchVersion("policy"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("changePolicy").WithSummary("Says what hosts allow wherever no group and no host says otherwise.");
        all.MapGet("/groups/{id:guid}/policy", async (PolicyService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.OfGroupAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Group, Permission.See).WithName("getGroupPolicy").WithSummary("The host policy at a group, and where each part of it comes from.");
        all.MapPut("/groups/{id:guid}/policy", async (PolicyService service, HttpContext http, Asker by, Guid id, HostPolicyPart part, CancellationToken cancel) =>
            Answer(http, await service.ChangeGroupAsync(id, part, http.IfMatchVersion("policy"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Group, Permission.Administer).WithName("changeGroupPolicy").WithSummary("Says what hosts of a group allow; what is left out comes from above.");
        all.MapGet("/hosts/{id:guid}/policy", async (PolicyService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.OfHostAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.See).WithName("getHostPolicy").WithSummary("The host policy of a host: what is wanted of it, and what its own side makes of that.");
        all.MapPut("/hosts/{id:guid}/policy", async (PolicyService service, HttpContext http, Asker by, Guid id, HostPolicyPart part, CancellationToken cancel) =>
            Answer(http, await service.ChangeHostAsync(id, part, http.IfMatchVersion("policy"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Host, Permission.Administer).WithName("changeHostPolicy").WithSummary("Says what one host allows; what is left out comes from its group.");
    }

    private static Microsoft.AspNetCore.Http.HttpResults.Ok<PolicyInfo> Answer(HttpContext http, PolicyInfo policy)
    {
        http.SetVersion(policy.Version);
        return TypedResults.Ok(policy);
    }
}
