using CsCheck;
using Umbrek.Core.Access;
using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Access;

public sealed class HostPolicyTests
{
    private static readonly Gen<IReadOnlyList<HostAct>> Acts = Gen.Int[0, 255].Select(bits => (IReadOnlyList<HostAct>)[.. Enum.GetValues<HostAct>().Where(a => (bits & (1 << (int)a)) != 0)]);

    private static readonly string[] Folders = ["/", "/srv", "/srv/in", "/home"];

    private static readonly Gen<HostPolicyPart> Parts =
        from allowed in Acts.Null()
        from consent in Gen.Int[-1, 2]
        from notice in Gen.Int[-1, 2]
        from keyFor in Acts.Null()
        from putOff in Gen.Int[-1, 30]
        from record in Gen.Int[-1, 2]
        from roots in Gen.Int[0, Folders.Length - 1].Select(n => Folders[n]).List[0, 3].Null()
        from gives in Gen.Int[-1, 1]
        select new HostPolicyPart(allowed, consent < 0 ? null : (ConsentRule)consent, notice < 0 ? null : (NoticeRule)notice, keyFor, putOff < 0 ? null : putOff, record < 0 ? null : (RecordRule)record, roots is null ? null : FileRoots.Normalise(roots), gives < 0 ? null : gives == 1);

    [Fact]
    public void A_limit_never_widens_whatever_is_wanted() =>
        Gen.Select(Parts, Parts).Sample((wanted, limit) =>
        {
            var before = HostPolicy.Everything.With(wanted);
            var after = before.NarrowedBy(limit);
            foreach (var act in Enum.GetValues<HostAct>())
            {
                after.Allows(act).ShouldBe(before.Allows(act) && limit.Allowed?.Contains(act) != false);
                after.AsksKey(act).ShouldBe(before.AsksKey(act) || limit.KeyFor?.Contains(act) == true);
            }
            ((int)after.Consent).ShouldBe(Math.Max((int)before.Consent, (int)(limit.Consent ?? 0)));
            ((int)after.Notice).ShouldBe(Math.Max((int)before.Notice, (int)(limit.Notice ?? 0)));
            (after.PutOffMinutes ?? 0).ShouldBe(Math.Max(before.PutOffMinutes ?? 0, limit.PutOffMinutes ?? 0));
            ((int)(after.Record ?? 0)).ShouldBe(Math.Max((int)(before.Record ?? 0), (int)(limit.Record ?? 0)));
            (after.GiveScreen ?? true).ShouldBe((before.GiveScreen ?? true) && (limit.GiveScreen ?? true));
            foreach (var path in (string[])["/srv", "/srv/in/x", "/home/y", "/etc"])
            {
                var lets = (IReadOnlyList<string>? roots) => roots is null || FileRoots.Find(roots, new FileName(path)) is not null;
                lets(after.FileRoots).ShouldBe(lets(before.FileRoots) && lets(limit.FileRoots), path);
            }
            after.NarrowedBy(limit).ShouldBe(after);
        });

    [Fact]
    public void A_policy_as_a_limit_leaves_just_itself() =>
        Parts.Sample(part =>
        {
            var policy = HostPolicy.Everything.With(part);
            HostPolicy.Everything.NarrowedBy(policy.ToLimit()).ShouldBe(policy.Normalise());
            policy.ToLimit().SaysNothing.ShouldBe(policy.Normalise() == HostPolicy.Everything);
        });

    [Fact]
    public void The_nearest_place_that_says_something_counts_part_by_part()
    {
        PolicyLayer[] layers =
        [
            new(null, new HostPolicyPart(Consent: ConsentRule.Always, KeyFor: [HostAct.Power])),
            new("Saltmarsh Ferry", new HostPolicyPart([HostAct.Run, HostAct.Watch], ConsentRule.Never)),
            new("Saltmarsh Ferry/Quay", HostPolicyPart.Inherit),
            new("quay-ticket-01", new HostPolicyPart(KeyFor: [])),
        ];
        PolicyLayers.Fold(layers).ShouldBe(new HostPolicy([HostAct.Run, HostAct.Watch], ConsentRule.Never, NoticeRule.None, []));
        var from = PolicyLayers.Origins(layers);
        (from.Allowed!.Place, from.Consent!.Place, from.Notice, from.KeyFor!.Place).ShouldBe(("Saltmarsh Ferry", "Saltmarsh Ferry", null, "quay-ticket-01"));
        PolicyLayers.Fold([]).ShouldBe(HostPolicy.Everything);
    }

    [Fact]
    public void What_cannot_be_used_is_told_apart()
    {
        new HostPolicy([HostAct.Run, HostAct.Watch, HostAct.Run], ConsentRule.Never).Normalise().ShouldBe(new HostPolicy([HostAct.Watch, HostAct.Run], ConsentRule.Never, NoticeRule.None, []));
        new HostPolicy(null!, ConsentRule.Never).Normalise().ShouldBeNull();
        new HostPolicy([(HostAct)99], ConsentRule.Never).Normalise().ShouldBeNull();
        new HostPolicyPart(KeyFor: [(HostAct)99]).Normalise().ShouldBeNull();
        new HostPolicyPart(Notice: (NoticeRule)7).Normalise().ShouldBeNull();
        new HostPolicyPart(FileRoots: ["srv"]).Normalise().ShouldBeNull();
        new HostPolicyPart(FileRoots: ["/srv/in", "/srv/"]).Normalise()!.FileRoots.ShouldBe(["/srv"]);
        (HostPolicy.Everything with { FileRoots = ["/srv/.."] }).Normalise().ShouldBeNull();
    }

    [Theory]
    [InlineData(ConsentRule.Never, true, ConsentNeed.None)]
    [InlineData(ConsentRule.Never, false, ConsentNeed.None)]
    [InlineData(ConsentRule.UnlessRefused, true, ConsentNeed.Ask)]
    [InlineData(ConsentRule.UnlessRefused, false, ConsentNeed.None)]
    [InlineData(ConsentRule.WhenSomebodyIsLoggedIn, true, ConsentNeed.Ask)]
    [InlineData(ConsentRule.WhenSomebodyIsLoggedIn, false, ConsentNeed.None)]
    [InlineData(ConsentRule.Always, true, ConsentNeed.Ask)]
    [InlineData(ConsentRule.Always, false, ConsentNeed.NobodyToAsk)]
    public void Whether_a_person_is_asked_depends_on_the_rule_and_on_who_is_there(ConsentRule rule, bool somebody, ConsentNeed need) =>
        (HostPolicy.Everything with { Consent = rule }).ConsentWith(somebody).ShouldBe(need);

    [Fact]
    public void Every_act_has_a_word_that_reads_back()
    {
        foreach (var act in Enum.GetValues<HostAct>())
        {
            HostPolicyWords.Read(HostPolicyWords.Word(act)).ShouldBe(act);
        }
        HostPolicyWords.Read("format-disk").ShouldBeNull();
        HostPolicyWords.List([HostAct.Run, HostAct.ReadFiles]).ShouldBe("run, read-files");
    }
}
