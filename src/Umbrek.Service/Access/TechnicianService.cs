using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Health;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Technicians: the first one, and the others.</summary>
public sealed class TechnicianService(IDatabase database, UmbrekContext accounts, UserManager<Technician> technicians, SetUpCode setUp, AccessIndex access, SignIns signIns, AuditLog audit, TimeProvider time)
{
    public async Task<SetUpState> SetUpStateAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return new SetUpState(!await db.Users.AnyAsync(cancel).ConfigureAwait(false));
    }

    /// <summary>Makes the first technician, for whoever knows the code on the service's terminal.</summary>
    public async Task<TechnicianInfo> SetUpAsync(SetUpRequest request, string? address, CancellationToken cancel)
    {
        if (!(await SetUpStateAsync(cancel).ConfigureAwait(false)).Needed)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "This service has its first technician already. Sign in.");
        }
        if (!setUp.Matches(request.Code))
        {
            await audit.AddAsync(SignInService.Nobody(address), "set-up.refuse", "first technician", cancel, ("why", "wrong code")).ConfigureAwait(false);
            throw new ProblemException(403, ProblemTypes.WrongCredentials, "The set-up code is wrong. It stands on the terminal on which umbrekd was started; each start makes a new one.");
        }
        return await CreateAsync(request.Name, request.Password, Role.Lead, new Caller("set-up code", address), cancel).ConfigureAwait(false);
    }

    /// <summary>Adds a technician, who may do nothing yet.</summary>
    public Task<TechnicianInfo> CreateAsync(NewTechnician wish, Asker by, CancellationToken cancel) => CreateAsync(wish.Name, wish.Password, null, by, cancel);

    /// <summary>Removes a technician with his grants and whatever he is signed in with. What he did stays in every record.</summary>
    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var seat = access.Find(id) ?? throw ProblemException.NotFound("technician");
        List<Guid> ended;
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            ended = await SignIns.EndOthersAsync(db, id, null, cancel).ConfigureAwait(false);
            await db.Users.Where(u => u.Id == id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "technician.remove", seat.Name, cancel, ("id", $"{id}"), ("grants", $"{seat.Reach.Held.Count}")).ConfigureAwait(false);
            await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        await access.LoadAsync().ConfigureAwait(false);
        signIns.Cut(ended);
    }

    /// <summary>Says where notices reach somebody.</summary>
    public async Task<TechnicianInfo> SetMailAsync(Guid id, MailWish wish, Asker by, CancellationToken cancel)
    {
        var seat = access.Find(id) ?? throw ProblemException.NotFound("technician");
        var address = string.IsNullOrWhiteSpace(wish.Address) ? null : wish.Address.Trim();
        if (address is not null && !MailSetup.IsAddress(address))
        {
            throw ProblemException.Invalid($"'{TerminalText.Line(address)}' is no mail address.");
        }
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            await db.Users.Where(u => u.Id == id).ExecuteUpdateAsync(u => u.SetProperty(r => r.Email, address), cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "technician.mail", seat.Name, cancel, ("address", address)).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        return (await ListAsync(by, cancel).ConfigureAwait(false)).Find(t => t.Id == id) ?? throw ProblemException.NotFound("technician");
    }

    public async Task<List<TechnicianInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var people = await db.Users.AsNoTracking().OrderBy(t => t.NormalizedUserName).ToListAsync(cancel).ConfigureAwait(false);
        var teams = (await db.TeamMembers.AsNoTracking().Join(db.Teams, m => m.TeamId, t => t.Id, (m, t) => new { m.TechnicianId, t.Name }).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(m => m.TechnicianId, m => m.Name);
        return [.. people.Select(t => new TechnicianInfo(t.Id, t.UserName ?? "", [.. teams[t.Id].Order(StringComparer.OrdinalIgnoreCase)], t.TwoFactorEnabled, t.Id == by.Id || by.Reach.Everywhere.Contains(Permission.Administer) ? t.Email : null))];
    }

    private async Task<TechnicianInfo> CreateAsync(string name, string password, Role? everywhere, Caller by, CancellationToken cancel)
    {
        var clean = Names.Clean(name, "name", out var problem) ?? throw ProblemException.Invalid(problem);
        var technician = new Technician { Id = Guid.CreateVersion7(), UserName = clean, CreatedAt = time.GetUtcNow() };
        // The accounts' own context, so that the account and its line in the audit log are stored together.
        await using var transaction = await accounts.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var result = await technicians.CreateAsync(technician, password).ConfigureAwait(false);
        if (!result.Succeeded)
        {
            throw result.Errors.Any(e => e.Code == nameof(IdentityErrorDescriber.DuplicateUserName))
                ? new ProblemException(409, ProblemTypes.Conflict, $"There is a technician '{clean}' already. Choose another name.")
                : ProblemException.Invalid(string.Join(' ', result.Errors.Select(e => e.Description)));
        }
        await audit.AddAsync(accounts, by, "technician.create", clean, cancel, ("id", $"{technician.Id}")).ConfigureAwait(false);
        if (everywhere is not null)
        {
            var grant = new GrantRow { Id = Guid.CreateVersion7(), TechnicianId = technician.Id, RoleId = everywhere.Id, CreatedAt = technician.CreatedAt, CreatedBy = by.Name };
            accounts.Grants.Add(grant);
            await audit.AddAsync(accounts, by, "grant.create", clean, cancel, ("id", $"{grant.Id}"), ("role", everywhere.Name), ("on", "everything")).ConfigureAwait(false);
        }
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return new TechnicianInfo(technician.Id, clean, [], false);
    }
}
