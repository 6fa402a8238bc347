using CsCheck;
using Umbrek.Core.Access;

namespace Umbrek.Core.Tests.Access;

public sealed class AccessRulesTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
    private static readonly DateTimeOffset Friday = new(2026, 11, 27, 18, 0, 0, TimeSpan.Zero);

    private static HeldGrant Grant(Role role, string? path, DateTimeOffset? ends = null, string? team = null) => new(Guid.NewGuid(), role, path, ends, team);

    private static Gen<string> Pick(params string[] words) => Gen.Int[0, words.Length - 1].Select(i => words[i]);

    private static readonly Gen<string> Paths = Pick(
        "Saltmarsh Ferry", "Saltmarsh Ferry/Quay", "Saltmarsh Ferry/Quay/Office", "Saltmarsh Ferry/Quayside", "Copperbeech Libraries", "Copperbeech Libraries/Orrin", "Tarn Valley Creamery");

    private static readonly Gen<HeldGrant> Grants =
        from bits in Gen.UInt[0, PermissionSet.All.Bits]
        from path in Gen.Select(Paths, Gen.Bool, (p, everything) => everything ? null : p)
        from days in Gen.Int[-3, 4]
        select Grant(new Role(Guid.NewGuid(), "some", new PermissionSet(bits)), path, days == 4 ? null : Now.AddDays(days));

    [Fact]
    public void What_a_reach_lets_through_is_what_is_decided_grant_by_grant() =>
        Gen.Select(Grants.List[0, 6], Paths, Gen.UInt[0, PermissionSet.All.Bits]).Sample((held, path, limit) =>
        {
            var most = new PermissionSet(limit);
            var reach = new Reach(held, Now, most);
            foreach (var permission in PermissionSet.All.List())
            {
                reach.May(permission, path).ShouldBe(AccessRules.Decide(permission, path, held, Now, limit: most).Allowed);
                reach.At(path).Contains(permission).ShouldBe(reach.May(permission, path));
                reach.Everywhere.Contains(permission).ShouldBe(AccessRules.Decide(permission, null, held, Now, limit: most).Allowed);
            }
            (reach.Anywhere | reach.At(path)).ShouldBe(reach.Anywhere);
        });

    [Fact]
    public void A_group_is_shown_exactly_when_it_or_something_below_it_may_be_seen() =>
        Gen.Select(Grants.List[0, 6], Paths).Sample((held, path) =>
        {
            var reach = new Reach(held, Now);
            var below = held.Select(g => g.GroupPath).OfType<string>().Append(path).Where(p => Estate(p, path));
            reach.Shows(path).ShouldBe(below.Any(p => reach.May(Permission.See, p)));

            static bool Estate(string p, string above) => Core.Estate.GroupPath.IsAtOrBelow(p, above);
        });

    [Fact]
    public void A_reach_holds_until_the_next_grant_ends() =>
        Grants.List[0, 6].Sample(held =>
        {
            var reach = new Reach(held, Now);
            var until = reach.ValidUntil ?? Now.AddYears(1);
            new Reach(held, until.AddTicks(-1)).At("Saltmarsh Ferry/Quay").ShouldBe(reach.At("Saltmarsh Ferry/Quay"));
            if (reach.ValidUntil is not null)
            {
                new Reach(held, until).ValidUntil.ShouldNotBe(reach.ValidUntil);
            }
        });

    [Fact]
    public void A_grant_reaches_the_group_and_what_is_below_and_no_namesake()
    {
        var reach = new Reach([Grant(Role.Technician, "Saltmarsh Ferry/Quay")], Now);
        reach.May(Permission.Run, "Saltmarsh Ferry/Quay").ShouldBeTrue();
        reach.May(Permission.Run, "Saltmarsh Ferry/Quay/Office").ShouldBeTrue();
        reach.May(Permission.Run, "Saltmarsh Ferry/Quayside").ShouldBeFalse();
        reach.May(Permission.See, "Saltmarsh Ferry").ShouldBeFalse();
        reach.Shows("Saltmarsh Ferry").ShouldBeTrue();
        reach.Shows("Saltmarsh").ShouldBeFalse();
    }

    [Fact]
    public void The_built_in_roles_hold_what_their_names_promise()
    {
        Role.Lead.Permissions.ShouldBe(PermissionSet.All);
        PermissionSet.All.Without(Role.Technician.Permissions).List().ShouldBe([Permission.RevealSecrets, Permission.Administer]);
        Role.Viewer.Permissions.List().ShouldBe([Permission.See, Permission.Watch]);
        Role.BuiltIn.Select(r => r.Id).Distinct().Count().ShouldBe(3);
    }

    [Theory]
    [InlineData(Permission.Run, "run")]
    [InlineData(Permission.ReadFiles, "read-files")]
    [InlineData(Permission.RevealSecrets, "reveal-secrets")]
    public void Permissions_are_written_by_their_words(Permission permission, string word)
    {
        PermissionWords.Word(permission).ShouldBe(word);
        PermissionWords.Read(word.ToUpperInvariant()).ShouldBe(permission);
        PermissionWords.Read("everything").ShouldBeNull();
    }

    [Fact]
    public void Every_reason_is_told_in_a_sentence()
    {
        var held = new[] { Grant(Role.Viewer, "Copperbeech Libraries", team: "Villages"), Grant(Role.Technician, "Brindle Moor Observatory", Friday), Grant(Role.Lead, "Tarn Valley Creamery") };
        string Say(Permission p, string path, DateTimeOffset? at = null, HostPolicy? policy = null, PermissionSet? limit = null, string? who = "Odile Marsh") =>
            AccessWords.Explain(AccessRules.Decide(p, path, held, at ?? Now, policy, limit), who, "dome-control");

        Say(Permission.Run, "Brindle Moor Observatory/Dome").ShouldBe("Odile Marsh may run commands on dome-control, by the grant as technician on Brindle Moor Observatory, until 2026-11-27 18:00 UTC.");
        Say(Permission.Run, "Brindle Moor Observatory/Dome", Friday).ShouldBe("Odile Marsh may not run commands on dome-control: the grant as technician on Brindle Moor Observatory ended at 2026-11-27 18:00 UTC.");
        Say(Permission.Run, "Copperbeech Libraries/Orrin").ShouldBe("Odile Marsh may not run commands on dome-control: the grant as viewer on Copperbeech Libraries (team Villages) does not include 'run'.");
        Say(Permission.Run, "Saltmarsh Ferry").ShouldBe("Odile Marsh may not run commands on dome-control: there is no grant that reaches dome-control.");
        Say(Permission.Run, "Saltmarsh Ferry", who: null).ShouldBe("You may not run commands on dome-control: you hold no grant that reaches dome-control.");
        Say(Permission.Run, "Tarn Valley Creamery", policy: new HostPolicy([HostAct.Watch], ConsentRule.Never)).ShouldBe("Odile Marsh may not run commands on dome-control: the host's own side does not allow it, though the grant as lead on Tarn Valley Creamery would.");
        Say(Permission.Run, "Tarn Valley Creamery", limit: PermissionSet.Of(Permission.See), who: null).ShouldBe("You may not run commands on dome-control: the token of this sign-in is not for 'run'.");
        AccessWords.Explain(AccessRules.Decide(Permission.Administer, null, held, Now), null, null).ShouldBe("You may not say who gets in at every place: you hold no grant on everything.");
    }

    [Theory]
    [InlineData(new string[0], "Nobody is there who could change that.")]
    [InlineData(new[] { "Ines Okafor" }, "Ines Okafor can change that.")]
    [InlineData(new[] { "Ines Okafor", "Tomasz Vail" }, "Ines Okafor or Tomasz Vail can change that.")]
    [InlineData(new[] { "A", "B", "C", "D" }, "A, B or 2 others can change that.")]
    public void Who_could_change_it_is_named(string[] names, string said) =>
        AccessWords.Remedy(new AccessDecision(Permission.Run, AccessReason.NoGrant, null), names).ShouldBe(said);

    [Fact]
    public void The_host_s_side_takes_away_and_never_gives()
    {
        var shut = new HostPolicy([], ConsentRule.Never);
        AccessRules.Decide(Permission.Run, "Saltmarsh Ferry", [Grant(Role.Lead, null)], Now, shut).Reason.ShouldBe(AccessReason.HostPolicy);
        AccessRules.Decide(Permission.Configure, "Saltmarsh Ferry", [Grant(Role.Lead, null)], Now, shut).Allowed.ShouldBeTrue();
        AccessRules.Decide(Permission.Run, "Saltmarsh Ferry", [Grant(Role.Viewer, null)], Now, HostPolicy.Everything).Reason.ShouldBe(AccessReason.RoleLacks);
    }

    [Fact]
    public void Nobody_comes_to_do_more_with_a_host_by_moving_it()
    {
        var configurer = new Role(Guid.NewGuid(), "tidies", PermissionSet.Of(Permission.See, Permission.Configure));
        var reach = new Reach([Grant(configurer, "Saltmarsh Ferry"), Grant(Role.Technician, "Tarn Valley Creamery"), Grant(configurer, "Copperbeech Libraries"), Grant(Role.Lead, "Brindle Moor Observatory")], Now);
        AccessRules.MayMove(reach, "Saltmarsh Ferry", "Copperbeech Libraries").ShouldBeTrue();
        AccessRules.MayMove(reach, "Saltmarsh Ferry", "Tarn Valley Creamery").ShouldBeFalse();
        AccessRules.MayMove(reach, "Tarn Valley Creamery", "Saltmarsh Ferry").ShouldBeTrue();
        AccessRules.MayMove(reach, "Brindle Moor Observatory", "Tarn Valley Creamery").ShouldBeTrue();
        AccessRules.MayMove(reach, "Saltmarsh Ferry", "Halyard & Wick").ShouldBeFalse();
    }

    [Fact]
    public void Nobody_gives_away_more_than_he_has()
    {
        var steward = new Role(Guid.NewGuid(), "steward", PermissionSet.Of(Permission.See, Permission.Administer, Permission.Run));
        var reach = new Reach([Grant(steward, "Saltmarsh Ferry")], Now);
        AccessRules.MayGive(reach, PermissionSet.Of(Permission.See, Permission.Run), "Saltmarsh Ferry/Quay").ShouldBeTrue();
        AccessRules.MayGive(reach, Role.Lead.Permissions, "Saltmarsh Ferry").ShouldBeFalse();
        AccessRules.MayGive(reach, PermissionSet.Of(Permission.See), "Copperbeech Libraries").ShouldBeFalse();
        AccessRules.MayGive(reach, PermissionSet.Of(Permission.See), null).ShouldBeFalse();
    }

    [Fact]
    public void Only_who_administers_everything_and_for_good_counts_as_a_lead()
    {
        AccessRules.IsLead(Grant(Role.Lead, null)).ShouldBeTrue();
        AccessRules.IsLead(Grant(Role.Lead, null, Friday)).ShouldBeFalse();
        AccessRules.IsLead(Grant(Role.Lead, "Saltmarsh Ferry")).ShouldBeFalse();
        AccessRules.IsLead(Grant(Role.Technician, null)).ShouldBeFalse();
    }
}
