namespace Umbrek.Core.Access;

/// <summary>A named set of permissions.</summary>
public sealed record Role(Guid Id, string Name, PermissionSet Permissions)
{
    /// <summary>Everything, also who else gets in.</summary>
    public static Role Lead { get; } = new(new Guid(1, 0, 0, new byte[8]), "lead", PermissionSet.All);

    /// <summary>All daily work; nobody's secrets to read, and nobody to let in beside computers.</summary>
    public static Role Technician { get; } = new(new Guid(2, 0, 0, new byte[8]), "technician", PermissionSet.All.Without(PermissionSet.Of(Permission.RevealSecrets, Permission.Administer)));

    /// <summary>Looks, and touches nothing.</summary>
    public static Role Viewer { get; } = new(new Guid(3, 0, 0, new byte[8]), "viewer", PermissionSet.Of(Permission.See, Permission.Watch));

    /// <summary>Roles that every service has; they can't be changed.</summary>
    public static IReadOnlyList<Role> BuiltIn { get; } = [Lead, Technician, Viewer];

    /// <summary>Whoever may do anything on a host may see it.</summary>
    public static PermissionSet Least { get; } = PermissionSet.Of(Permission.See);

    public bool IsBuiltIn => BuiltIn.Contains(this);
}
