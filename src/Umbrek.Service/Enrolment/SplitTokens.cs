using System.Collections.Concurrent;
using Umbrek.Core.Enrolment;
using Umbrek.Service.Hosting;

namespace Umbrek.Service.Enrolment;

/// <summary>
/// Tokens for machines that carry another one's identity, copied with its disk: each lets one machine in, beside the host that it
/// was copied from. They live in memory and for minutes; a machine that misses its chance is given another when it comes again.
/// </summary>
public sealed class SplitTokens(ServiceKey key, TimeProvider time)
{
    private static readonly TimeSpan Life = TimeSpan.FromMinutes(5);
    private readonly ConcurrentDictionary<string, (Guid CopiedFrom, DateTimeOffset Until)> tokens = new();

    public string Give(Guid copiedFrom)
    {
        var now = time.GetUtcNow();
        foreach (var old in tokens.Where(t => t.Value.Until < now))
        {
            tokens.TryRemove(old);
        }
        var token = EnrolmentTokenText.Create(key.Sha256);
        tokens[Name(token)] = (copiedFrom, now + Life);
        return token.ToString();
    }

    /// <returns>The host that the machine was copied from, or null for a token that is none of these.</returns>
    public Guid? Take(EnrolmentTokenText token) =>
        tokens.TryRemove(Name(token), out var given) && given.Until >= time.GetUtcNow() ? given.CopiedFrom : null;

    private static string Name(EnrolmentTokenText token) => Convert.ToHexString(token.SecretSha256());
}
