namespace Umbrek.Core.Audit;

/// <summary>How an audit log is not what was written.</summary>
public enum AuditFault
{
    /// <summary>The line and its hash do not belong together: one of them, or the line before, was changed.</summary>
    Altered,

    /// <summary>Lines are not there.</summary>
    Removed,

    /// <summary>The line stands where another belongs.</summary>
    Misplaced,

    /// <summary>The log ends before a line that was seen earlier.</summary>
    CutShort,

    /// <summary>A line that was seen earlier has another hash now: the log was written anew from there or before.</summary>
    Rewritten,
}

/// <param name="Number">The first line that it is about.</param>
/// <param name="Last">The last one.</param>
public sealed record AuditFinding(AuditFault Fault, long Number, long Last, string Text);

/// <summary>The last line that somebody once saw, by number and hash; a log that was cut or written anew does not hold it any more.</summary>
public sealed record AuditAnchor(long Number, string Hash);

/// <summary>
/// Goes through an audit log from its first line and says where it was tampered with. After a fault it goes on from the hash that
/// stands there, so that one changed line does not hide a second one.
/// </summary>
/// <param name="anchor">What an earlier look at the same log ended with.</param>
public sealed class AuditVerifier(AuditAnchor? anchor = null)
{
    private readonly List<AuditFinding> findings = [];
    private byte[] before = AuditChain.Start;
    private AuditAnchor? atAnchor;

    public IReadOnlyList<AuditFinding> Findings => findings;

    /// <summary>How many lines it has seen.</summary>
    public long Lines { get; private set; }

    /// <summary>The number that comes next when nothing is missing.</summary>
    public long Next { get; private set; } = 1;

    /// <summary>What a later look can begin from; null while there are no lines.</summary>
    public AuditAnchor? Last => Lines == 0 ? null : new AuditAnchor(Next - 1, Convert.ToHexStringLower(before));

    /// <summary>Takes the next line of the log, in its order.</summary>
    /// <param name="hash">The hash that stands with it.</param>
    public void Take(AuditEntry entry, ReadOnlySpan<byte> hash)
    {
        Lines++;
        if (entry.Number > Next)
        {
            var last = entry.Number - 1;
            findings.Add(new AuditFinding(AuditFault.Removed, Next, last, last == Next ? $"Line {Next} is missing." : $"Lines {Next} to {last} are missing."));
        }
        else if (entry.Number < Next)
        {
            findings.Add(new AuditFinding(AuditFault.Misplaced, entry.Number, entry.Number, $"Line {entry.Number} ({Say(entry)}) stands after line {Next - 1}."));
        }
        else if (!AuditChain.Next(before, entry).AsSpan().SequenceEqual(hash))
        {
            findings.Add(new AuditFinding(AuditFault.Altered, entry.Number, entry.Number, $"Line {entry.Number} ({Say(entry)}) is not as it was written: its hash is another{(entry.Number > 1 ? $", or line {entry.Number - 1} was exchanged" : "")}."));
        }
        before = hash.ToArray();
        Next = Math.Max(Next, entry.Number + 1);
        if (entry.Number == anchor?.Number)
        {
            atAnchor = new AuditAnchor(entry.Number, Convert.ToHexStringLower(hash));
        }
    }

    /// <summary>Says after the last line whether the log still holds what was seen earlier.</summary>
    public void End()
    {
        if (anchor is null)
        {
            return;
        }
        if (Next <= anchor.Number)
        {
            findings.Add(new AuditFinding(AuditFault.CutShort, Next, anchor.Number, $"The log ends with line {Next - 1}, and had {anchor.Number} when it was last looked at: lines were cut off its end."));
        }
        else if (atAnchor is not null && atAnchor != anchor)
        {
            findings.Add(new AuditFinding(AuditFault.Rewritten, anchor.Number, anchor.Number, $"Line {anchor.Number} has another hash than when it was last looked at: the log was written anew, up to there at least."));
        }
    }

    private static string Say(AuditEntry entry) => $"{entry.Action} {entry.Target}, {entry.At:yyyy-MM-dd HH:mm:ss} UTC";
}
