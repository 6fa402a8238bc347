using System.Text;
using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Files;

public sealed class PlacingTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
    private static readonly FileEntry There = new(new FileName("kiosk.conf"), FileKind.File, 100, 0x1a4, "root", "root", Noon);

    [Theory]
    [InlineData(Existing.Keep, Placing.Keep)]
    [InlineData(Existing.Replace, Placing.Replace)]
    [InlineData(Existing.ReplaceOlder, Placing.Keep)]
    [InlineData(Existing.Rename, Placing.Rename)]
    [InlineData(Existing.Ask, Placing.Ask)]
    public void Another_one_that_is_there_goes_by_what_was_said(Existing way, Placing placing)
    {
        Placings.Decide(way, There, 101, Noon).ShouldBe(placing);
        Placings.Decide(way, null, 101, Noon).ShouldBe(Placing.Put);
        Placings.Decide(way, There with { Kind = FileKind.Folder }, 101, Noon).ShouldBe(Placing.Blocked);
        Placings.Decide(way, There with { Kind = FileKind.Link, TargetKind = FileKind.Folder }, 101, Noon).ShouldBe(Placing.Blocked);
        Placings.Decide(way, There with { Kind = FileKind.Link, TargetKind = FileKind.File }, 101, Noon).ShouldBe(placing);
        // What is known of its content counts before length and time.
        Placings.Decide(way, There, 100, Noon, isSame: true).ShouldBe(Placing.Same);
        Placings.Decide(way, There, 100, Noon, isSame: false).ShouldBe(placing);
    }

    [Fact]
    public void Length_and_time_tell_the_same_one_but_for_who_wants_it_replaced()
    {
        Placings.Decide(Existing.Keep, There, 100, Noon).ShouldBe(Placing.Same);
        Placings.Decide(Existing.Ask, There, 100, Noon).ShouldBe(Placing.Same);
        Placings.Decide(Existing.Replace, There, 100, Noon).ShouldBe(Placing.Replace);
        Placings.Decide(Existing.ReplaceOlder, There, 100, Noon.AddSeconds(1)).ShouldBe(Placing.Replace);
        Placings.Decide(Existing.ReplaceOlder, There, 100, Noon.AddSeconds(-1)).ShouldBe(Placing.Keep);
    }

    [Fact]
    public void A_free_name_keeps_its_ending_and_fits()
    {
        FileName Free(string path, params string[] taken) => Placings.Free(new FileName(path), other => taken.Contains(other.Text));
        Free("/etc/kiosk.conf").Text.ShouldBe("/etc/kiosk (2).conf");
        Free("/etc/kiosk.conf", "/etc/kiosk (2).conf", "/etc/kiosk (3).conf").Text.ShouldBe("/etc/kiosk (4).conf");
        Free("/etc/.profile").Text.ShouldBe("/etc/.profile (2)");
        Free("/etc/hosts").Text.ShouldBe("/etc/hosts (2)");
        Free("/srv/plates.tar.gz").Text.ShouldBe("/srv/plates.tar (2).gz");
        var longest = Free("/" + new string('n', 251) + ".txt");
        (longest.IsPlainName() || longest.Last().IsPlainName(), longest.Text.EndsWith(" (2).txt", StringComparison.Ordinal)).ShouldBe((true, true));
        var odd = Placings.Free(FileName.Of([(byte)'/', 0xe9, (byte)'.', (byte)'x']), _ => false);
        odd.ToBytes().ShouldBe([(byte)'/', 0xe9, .. Encoding.ASCII.GetBytes(" (2).x")]);
    }
}
