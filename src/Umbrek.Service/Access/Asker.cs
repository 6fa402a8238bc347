using System.Security.Claims;
using Umbrek.Core.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>The technician who asks for something, what he asks with, and what he may do. Handlers take it as a parameter.</summary>
/// <param name="IsScript">He asks with a token that was made for a script.</param>
public sealed record Asker(Seat Seat, Guid? SignInId, bool IsScript, Reach Reach, string? Address) : Caller(Seat.Name, Address)
{
    public Guid Id => Seat.Id;

    /// <exception cref="ProblemException">401: the sign-in belongs to nobody any more.</exception>
    public static Asker Of(ClaimsPrincipal user, string? address, AccessIndex index)
    {
        if (!Guid.TryParse(user.FindFirstValue(ClaimTypes.NameIdentifier), out var id) || index.Find(id) is not { } seat)
        {
            throw new ProblemException(401, ProblemTypes.NotSignedIn, "You are not signed in, or your sign-in has ended. Sign in and try again.");
        }
        var limit = seat.FactorMissing ? PermissionSet.None : user.FindFirstValue(SignIns.MayClaim) is { } may ? RoleService.Read(may) : PermissionSet.All;
        return new Asker(seat, SignIns.IdOf(user), user.HasClaim(c => c.Type == SignIns.MayClaim), seat.For(limit), address);
    }

    public static ValueTask<Asker> BindAsync(HttpContext context) =>
        ValueTask.FromResult(Of(context.User, context.Address(), context.RequestServices.GetRequiredService<AccessIndex>()));
}
