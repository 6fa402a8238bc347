using Umbrek.Core.Audit;

namespace Umbrek.Core.Tests.Audit;

public sealed class AuditChainTests
{
    private static readonly AuditEntry Line = new(1, DateTimeOffset.UnixEpoch, "Ines Okafor", "198.51.100.7", "installer.create", "Saltmarsh Ferry/Quay", "{}");

    [Fact]
    public void Each_part_of_a_line_and_the_line_before_decide_the_hash()
    {
        var hash = AuditChain.Next(AuditChain.Start, Line);
        AuditChain.Next(AuditChain.Start, Line with { }).ShouldBe(hash);
        AuditEntry[] others =
        [
            Line with { Number = 2 }, Line with { At = Line.At.AddMilliseconds(1) }, Line with { Actor = "Ines  Okafor" }, Line with { Address = null },
            Line with { Action = "installer.revoke" }, Line with { Target = "Saltmarsh Ferry" }, Line with { Detail = "{ }" },
            // Text that moves from one member into the next is another line.
            Line with { Actor = "Ines Okafor198.51.100.7", Address = "" },
        ];
        others.Select(o => Convert.ToHexString(AuditChain.Next(AuditChain.Start, o))).Append(Convert.ToHexString(hash)).Distinct().Count().ShouldBe(others.Length + 1);
        AuditChain.Next(hash, Line).ShouldNotBe(hash);
    }
}
