using System.Buffers.Text;
using System.Collections.Concurrent;
using System.Security.Cryptography;

namespace Umbrek.Service.Access;

/// <summary>Lets a technician who has proven their password go to the provider of single sign-on to link themselves: with the sign-in that asked, once, and soon.</summary>
public sealed class LinkTickets(TimeProvider time)
{
    private static readonly TimeSpan Life = TimeSpan.FromMinutes(5);
    private readonly ConcurrentDictionary<string, (Guid? SignInId, DateTimeOffset Until)> given = new();

    public string Give(Asker by)
    {
        var now = time.GetUtcNow();
        foreach (var old in given.Where(g => g.Value.Until <= now))
        {
            given.TryRemove(old);
        }
        var ticket = Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(32));
        given[ticket] = (by.SignInId, now + Life);
        return ticket;
    }

    /// <returns>Whether it was given to this sign-in, and not long ago; it is used up.</returns>
    public bool Take(string ticket, Asker by) => given.TryRemove(ticket, out var kept) && kept.SignInId == by.SignInId && kept.Until > time.GetUtcNow();
}
