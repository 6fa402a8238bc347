using Umbrek.Core.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Where a permission is needed.</summary>
public enum NeedAt
{
    /// <summary>Nowhere: being signed in is enough, and everybody finds his own.</summary>
    Own,

    /// <summary>At one place at least; which one shows only inside, and is asked there.</summary>
    Somewhere,

    /// <summary>At the host whose id the route holds.</summary>
    Host,

    /// <summary>At the group whose id the route holds.</summary>
    Group,

    Everywhere,
}

/// <summary>What an endpoint, or a method of a hub, needs. None goes without.</summary>
[AttributeUsage(AttributeTargets.Method)]
public sealed class NeedsAttribute(NeedAt at, Permission permission = Permission.See) : Attribute
{
    public NeedsAttribute(NeedAt at, Permission permission, params Permission[] instead) : this(at, permission) => Instead = instead;

    public NeedAt At { get; } = at;
    public Permission Permission { get; } = permission;

    /// <summary>Others of which each is enough to come in, where only the inside shows which one it takes.</summary>
    public IReadOnlyList<Permission> Instead { get; } = [];

    /// <summary>Somebody who signed in themselves: a token that was made for a script does nothing to the account of its maker.</summary>
    public bool InPerson { get; init; }
}

/// <summary>Declares what endpoints need, and sees to it before they are carried out.</summary>
public static class EndpointNeeds
{
    public static T Own<T>(this T endpoint) where T : IEndpointConventionBuilder => endpoint.WithMetadata(new NeedsAttribute(NeedAt.Own));

    /// <summary>Somebody's own account: for them alone, and for no token of theirs.</summary>
    public static T InPerson<T>(this T endpoint) where T : IEndpointConventionBuilder => endpoint.WithMetadata(new NeedsAttribute(NeedAt.Own) { InPerson = true });

    public static T Needs<T>(this T endpoint, NeedAt at, Permission permission) where T : IEndpointConventionBuilder => endpoint.WithMetadata(new NeedsAttribute(at, permission));

    /// <summary>One of several at one place at least: the inside shows which.</summary>
    public static T NeedsEither<T>(this T endpoint, Permission permission, params Permission[] instead) where T : IEndpointConventionBuilder => endpoint.WithMetadata(new NeedsAttribute(NeedAt.Somewhere, permission, instead));

    /// <summary>Asks for what the endpoint has declared, before anything of the request is read; a refusal goes into the audit log.</summary>
    public static async Task AskAsync(HttpContext http, RequestDelegate next)
    {
        if (http.GetEndpoint() is not { } endpoint || endpoint.Metadata.GetMetadata<NeedsAttribute>() is not { } need)
        {
            if (http.GetEndpoint() is { } asked && IsForgotten(asked))
            {
                throw new InvalidOperationException($"{asked.DisplayName} has not declared a permission.");
            }
            await next(http).ConfigureAwait(false);
            return;
        }
        var by = await Asker.BindAsync(http).ConfigureAwait(false);
        try
        {
            Ask(http.RequestServices.GetRequiredService<Gate>(), by, need, () => Guid.Parse($"{http.GetRouteValue("id")}"));
            await next(http).ConfigureAwait(false);
        }
        catch (ProblemException e) when (e.Problem.Word == ProblemTypes.NotAllowed)
        {
            await http.RequestServices.GetRequiredService<AuditLog>().AddAsync(by, "access.refuse", $"{http.Request.Method} {http.Request.Path}", http.RequestAborted, ("needs", PermissionWords.Word(need.Permission)), ("why", e.Message)).ConfigureAwait(false);
            throw;
        }
    }

    public static void Ask(Gate gate, Asker by, NeedsAttribute need, Func<Guid> id)
    {
        if (by.Seat.FactorMissing && need.At != NeedAt.Own)
        {
            throw new ProblemException(403, ProblemTypes.SecondFactorMissing, "Everybody here needs a second factor, and you have none yet. Set one up first: under your name in the console, or with 'umbrek second-factor set-up'.");
        }
        if (need.InPerson && by.IsScript)
        {
            throw new ProblemException(403, ProblemTypes.NotAllowed, "A token for a script does nothing to the account of its maker. Sign in yourself for that.");
        }
        switch (need.At)
        {
            case NeedAt.Host:
                gate.Host(by, id(), need.Permission);
                break;
            case NeedAt.Group:
                gate.Group(by, id(), need.Permission);
                break;
            case NeedAt.Everywhere:
                gate.Everywhere(by, need.Permission);
                break;
            case NeedAt.Somewhere when !by.Reach.Anywhere.Contains(need.Permission) && !need.Instead.Any(by.Reach.Anywhere.Contains):
                throw gate.RefuseAnywhere(by, need.Permission);
        }
    }

    /// <summary>Ours without a word about what it needs; what the framework answers a wrong method with is none of ours.</summary>
    private static bool IsForgotten(Endpoint endpoint) => endpoint is RouteEndpoint
        && endpoint.Metadata.GetMetadata<NeedsAttribute>() is null && endpoint.Metadata.GetMetadata<Microsoft.AspNetCore.Authorization.IAllowAnonymous>() is null && endpoint.Metadata.GetMetadata<Microsoft.AspNetCore.SignalR.HubMetadata>() is null;

    /// <summary>A service with an endpoint that has not said what it needs does not stay up.</summary>
    public static void Check(EndpointDataSource source)
    {
        var forgotten = source.Endpoints.OfType<RouteEndpoint>().Where(IsForgotten).Select(e => e.RoutePattern.RawText).ToList();
        if (forgotten.Count > 0)
        {
            throw new InvalidOperationException($"Endpoints that have not declared a permission: {string.Join(", ", forgotten)}");
        }
    }
}
