using Umbrek.Core.Audit;

namespace Umbrek.Core.Tests.Audit;

public sealed class AuditVerifierTests
{
    private static readonly List<(AuditEntry Entry, byte[] Hash)> Log = Write(10);

    [Fact]
    public void A_log_as_it_was_written_is_in_order_and_can_be_looked_at_again_later()
    {
        var first = Verify(Log[..6]);
        first.Findings.ShouldBeEmpty();
        first.Last.ShouldBe(new AuditAnchor(6, Convert.ToHexStringLower(Log[5].Hash)));
        Verify(Log, first.Last).Findings.ShouldBeEmpty();
        Verify([]).Last.ShouldBeNull();
    }

    [Fact]
    public void Every_line_that_is_altered_is_named()
    {
        var log = Log.ToList();
        log[3] = (log[3].Entry with { Actor = "Somebody Else" }, log[3].Hash);
        log[7] = (log[7].Entry with { Detail = "{}" }, log[7].Hash);
        Verify(log).Findings.Select(f => (f.Fault, f.Number)).ShouldBe([(AuditFault.Altered, 4), (AuditFault.Altered, 8)]);
    }

    [Fact]
    public void A_line_that_is_altered_together_with_its_hash_breaks_the_next()
    {
        var log = Log.ToList();
        var changed = log[3].Entry with { Target = "another" };
        log[3] = (changed, AuditChain.Next(log[2].Hash, changed));
        var finding = Verify(log).Findings.ShouldHaveSingleItem();
        (finding.Fault, finding.Number).ShouldBe((AuditFault.Altered, 5));
        finding.Text.ShouldContain("line 4 was exchanged");
    }

    [Fact]
    public void Lines_that_are_removed_are_named()
    {
        var finding = Verify([.. Log[..2], .. Log[5..]]).Findings.ShouldHaveSingleItem();
        (finding.Fault, finding.Number, finding.Last).ShouldBe((AuditFault.Removed, 3, 5));
        Verify(Log[1..]).Findings.ShouldHaveSingleItem().Text.ShouldBe("Line 1 is missing.");
    }

    [Fact]
    public void Lines_that_changed_places_are_named_whether_their_numbers_went_along_or_not()
    {
        var log = Log.ToList();
        (log[2], log[3]) = (log[3], log[2]);
        Verify(log).Findings.Select(f => (f.Fault, f.Number)).ShouldBe([(AuditFault.Removed, 3), (AuditFault.Misplaced, 3), (AuditFault.Altered, 5)]);

        var renumbered = Log.ToList();
        (renumbered[2], renumbered[3]) = ((Log[3].Entry with { Number = 3 }, Log[3].Hash), (Log[2].Entry with { Number = 4 }, Log[2].Hash));
        Verify(renumbered).Findings.Select(f => (f.Fault, f.Number)).ShouldBe([(AuditFault.Altered, 3), (AuditFault.Altered, 4), (AuditFault.Altered, 5)]);
    }

    [Fact]
    public void What_was_seen_earlier_tells_when_the_end_is_cut_off_or_all_is_written_anew()
    {
        var seen = Verify(Log).Last;
        Verify(Log[..7], seen).Findings.ShouldHaveSingleItem().Fault.ShouldBe(AuditFault.CutShort);
        // Cut off and filled up again: only the hash of then tells.
        var anew = Write(12, "Somebody Else");
        Verify(anew, seen).Findings.ShouldHaveSingleItem().Fault.ShouldBe(AuditFault.Rewritten);
        Verify(anew).Findings.ShouldBeEmpty();
    }

    [Fact]
    public void No_single_change_goes_unnoticed()
    {
        var random = new Random(20261123);
        for (var round = 0; round < 500; round++)
        {
            var log = Log.ToList();
            var at = random.Next(log.Count - 1);
            var (entry, hash) = log[at];
            switch (random.Next(7))
            {
                case 0: log.RemoveAt(at); break;
                case 1: log[at] = (entry with { At = entry.At.AddMilliseconds(random.Next(1, 1000)) }, hash); break;
                case 2: log[at] = (entry with { Actor = entry.Actor + " " }, hash); break;
                case 3: log[at] = (entry with { Address = entry.Address is null ? "" : null }, hash); break;
                case 4: (log[at], log[at + 1]) = (log[at + 1], log[at]); break;
                case 5: log.Insert(at, log[random.Next(log.Count)]); break;
                default:
                    var turned = hash.ToArray();
                    turned[random.Next(turned.Length)] ^= (byte)(1 << random.Next(8));
                    log[at] = (entry, turned);
                    break;
            }
            Verify(log).Findings.ShouldNotBeEmpty($"round {round}");
        }
    }

    private static AuditVerifier Verify(IEnumerable<(AuditEntry Entry, byte[] Hash)> log, AuditAnchor? anchor = null)
    {
        var verifier = new AuditVerifier(anchor);
        foreach (var (entry, hash) in log)
        {
            verifier.Take(entry, hash);
        }
        verifier.End();
        return verifier;
    }

    private static List<(AuditEntry Entry, byte[] Hash)> Write(int lines, string actor = "Ines Okafor")
    {
        var log = new List<(AuditEntry, byte[])>();
        var before = AuditChain.Start;
        for (var n = 1; n <= lines; n++)
        {
            var entry = new AuditEntry(n, DateTimeOffset.UnixEpoch.AddMinutes(n), actor, n % 2 == 0 ? "198.51.100.7" : null, "host.change", $"quay-ticket-{n:00}", $$"""{"label":"desk {{n}}"}""");
            before = AuditChain.Next(before, entry);
            log.Add((entry, before));
        }
        return log;
    }
}
