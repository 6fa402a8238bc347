using Microsoft.AspNetCore.Identity;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;

namespace Umbrek.Service.Access;

/// <summary>Who technicians are at the provider of single sign-on.</summary>
public sealed class LinkedLogins(UserManager<Technician> technicians, PasswordTries tries, LinkTickets tickets, AuditLog audit)
{
    /// <summary>Whoever is linked signs in as the technician for ever after: that takes the technician, and not somebody at their open screen.</summary>
    public async Task<LinkBeginning> BeginAsync(Asker by, PasswordProof proof, CancellationToken cancel)
    {
        await tries.ProveAsync(by, proof.Password, cancel).ConfigureAwait(false);
        return new LinkBeginning($"{SingleSignOn.BeginPath}?link={tickets.Give(by)}");
    }

    public async Task<List<LinkedLogin>> ListAsync(Asker by) =>
        [.. (await technicians.GetLoginsAsync(await FindAsync(by).ConfigureAwait(false)).ConfigureAwait(false)).Select(l => new LinkedLogin(l.ProviderDisplayName ?? l.ProviderKey, l.LoginProvider))];

    public async Task RemoveAsync(Asker by, CancellationToken cancel)
    {
        var technician = await FindAsync(by).ConfigureAwait(false);
        foreach (var login in await technicians.GetLoginsAsync(technician).ConfigureAwait(false))
        {
            await technicians.RemoveLoginAsync(technician, login.LoginProvider, login.ProviderKey).ConfigureAwait(false);
            await audit.AddAsync(by, "single-sign-on.unlink", by.Name, cancel, ("as", login.ProviderDisplayName)).ConfigureAwait(false);
        }
    }

    private async Task<Technician> FindAsync(Asker by) => await technicians.FindByIdAsync($"{by.Id}").ConfigureAwait(false) ?? throw ProblemException.NotFound("technician");
}
