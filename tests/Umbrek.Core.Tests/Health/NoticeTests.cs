using System.Text;
using CsCheck;
using Umbrek.Core.Health;

namespace Umbrek.Core.Tests.Health;

public sealed class NoticeTests
{
    /// <summary>A Thursday; London is at UTC in November.</summary>
    private static readonly DateTimeOffset Now = new(2026, 11, 26, 9, 0, 0, TimeSpan.Zero);
    private static readonly TimeZoneInfo London = TimeZoneInfo.FindSystemTimeZoneById("Europe/London");

    [Theory]
    [InlineData("mon-fri 18:00-07:00, sat-sun", "2026-11-26T17:59", false)]
    [InlineData("mon-fri 18:00-07:00, sat-sun", "2026-11-26T18:00", true)]
    [InlineData("mon-fri 18:00-07:00, sat-sun", "2026-11-27T06:59", true)]
    [InlineData("mon-fri 18:00-07:00, sat-sun", "2026-11-27T07:00", false)]
    [InlineData("mon-fri 18:00-07:00, sat-sun", "2026-11-28T12:00", true)]
    // Sunday's night belongs to no period that begins on Sunday after midnight: Monday's begins at 18.
    [InlineData("mon-fri 18:00-07:00, sat-sun", "2026-11-30T00:00", false)]
    [InlineData("fri 22:00-24:00", "2026-11-27T23:59", true)]
    [InlineData("fri 22:00-24:00", "2026-11-28T00:00", false)]
    [InlineData("12:00-13:00", "2026-11-29T12:30", true)]
    [InlineData("sat-mon", "2026-11-30T23:59", true)]
    [InlineData("sat-mon", "2026-12-01T00:00", false)]
    public void Quiet_hours_know_days_and_nights(string text, string local, bool quiet)
    {
        var hours = QuietHours.Parse(text, out _)!;
        hours.IsQuiet(DateTime.Parse(local, System.Globalization.CultureInfo.InvariantCulture)).ShouldBe(quiet);
        hours.ToString().ShouldBe(text);
    }

    [Theory]
    [InlineData("", "empty period")]
    [InlineData("mon-fri 18-7", "'mon-fri 18-7' is no period")]
    [InlineData("moon 18:00-07:00", "'moon 18:00-07:00' is no period")]
    [InlineData("18:00-07:00 mon", "is no period")]
    [InlineData("mon 18:00-25:00", "is no period")]
    [InlineData("mon,,tue", "empty period")]
    public void Quiet_hours_that_cannot_be_read_say_how_to_write_them(string text, string problem)
    {
        QuietHours.Parse(text, out var said).ShouldBeNull();
        said.ShouldContain(problem);
    }

    [Fact]
    public void The_end_of_quiet_hours_is_the_first_moment_at_which_somebody_may_be_disturbed()
    {
        var nights = QuietHours.Parse("mon-fri 18:00-07:00, sat-sun, mon 00:00-07:00", out _)!;
        nights.EndsAt(new DateTime(2026, 11, 27, 20, 0, 0)).ShouldBe(new DateTime(2026, 11, 30, 7, 0, 0));
        nights.EndsAt(new DateTime(2026, 11, 27, 12, 0, 0)).ShouldBeNull();
        QuietHours.Parse("mon-sun", out _)!.EndsAt(new DateTime(2026, 11, 27)).ShouldBeNull();
    }

    [Fact]
    public void Whatever_hours_are_said_print_as_what_reads_the_same_and_end_where_it_is_not_quiet() =>
        Gen.Select(Gen.Int[0, 6], Gen.Int[0, 6], Gen.Int[0, 1439], Gen.Int[0, 1440], Gen.Int[0, 2]).Array[1, 6].Select(Gen.Int[0, 20_000]).Sample((periods, minutes) =>
        {
            string[] days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
            static string Clock(int m) => $"{m / 60:00}:{m % 60:00}";
            var text = string.Join(",", periods.Select(p => p.Item5 switch { 0 => $"{days[p.Item1]}-{days[p.Item2]} {Clock(p.Item3)}-{Clock(p.Item4)}", 1 => days[p.Item1], _ => $"{Clock(p.Item3)}-{Clock(p.Item4)}" }));
            var hours = QuietHours.Parse(text, out _)!;
            var again = QuietHours.Parse(hours.ToString(), out _)!;
            again.ToString().ShouldBe(hours.ToString());
            var at = new DateTime(2026, 11, 23).AddMinutes(minutes);
            again.IsQuiet(at).ShouldBe(hours.IsQuiet(at));
            if (hours.EndsAt(at) is { } end)
            {
                hours.IsQuiet(at).ShouldBeTrue();
                hours.IsQuiet(end).ShouldBeFalse();
                hours.IsQuiet(end.AddMinutes(-1)).ShouldBeTrue();
            }
        });

    [Fact]
    public void An_escalation_waits_and_a_window_or_quiet_hours_put_it_off()
    {
        var terms = new NoticeTerms(Severity.Warning, [Subsystem.Storage], TimeSpan.FromMinutes(15), QuietHours.Parse("thu 10:00-12:00", out _), London, CriticalAlways: true);
        var alert = new NoticedAlert(Severity.Warning, Subsystem.Storage, Now);
        terms.Judge(alert, Now).ShouldBe(new NoticeVerdict(NoticeAnswer.Later, Now.AddMinutes(15)));
        terms.Judge(alert, Now.AddMinutes(15)).Answer.ShouldBe(NoticeAnswer.Due);
        terms.Judge(alert, Now.AddMinutes(70)).ShouldBe(new NoticeVerdict(NoticeAnswer.QuietHours, Now.AddHours(3)));
        terms.Judge(alert with { Severity = Severity.Critical }, Now.AddMinutes(70)).Answer.ShouldBe(NoticeAnswer.Due);
        (terms with { CriticalAlways = false }).Judge(alert with { Severity = Severity.Critical }, Now.AddMinutes(70)).Answer.ShouldBe(NoticeAnswer.QuietHours);
        terms.Judge(alert with { QuietUntil = Now.AddHours(5) }, Now.AddMinutes(20)).ShouldBe(new NoticeVerdict(NoticeAnswer.Maintenance, Now.AddHours(5)));
        // After a window it counts from the window's end: nobody was to look before.
        terms.Judge(alert with { QuietSince = Now.AddMinutes(40) }, Now.AddMinutes(50)).ShouldBe(new NoticeVerdict(NoticeAnswer.Later, Now.AddMinutes(55)));
        terms.Judge(alert with { OpenSince = null }, Now.AddHours(1)).Answer.ShouldBe(NoticeAnswer.NobodyNeeded);
        terms.Judge(alert with { Severity = Severity.Information }, Now.AddHours(1)).Answer.ShouldBe(NoticeAnswer.NotMeant);
        terms.Judge(alert with { Subsystem = Subsystem.Memory }, Now.AddHours(1)).Answer.ShouldBe(NoticeAnswer.NotMeant);
    }

    [Fact]
    public void Quiet_hours_that_end_in_the_hour_that_spring_leaves_out_end_with_it()
    {
        // 2027-03-28: 01:00 becomes 02:00 in London.
        var terms = new NoticeTerms(Severity.Warning, null, TimeSpan.Zero, QuietHours.Parse("00:00-01:30", out _), London, false);
        var at = new DateTimeOffset(2027, 3, 28, 0, 30, 0, TimeSpan.Zero);
        terms.Judge(new NoticedAlert(Severity.Warning, Subsystem.Memory, at), at).ShouldBe(new NoticeVerdict(NoticeAnswer.QuietHours, new DateTimeOffset(2027, 3, 28, 1, 0, 0, TimeSpan.Zero)));
    }

    [Fact]
    public void Tries_become_seldom_and_end_after_a_day()
    {
        var (at, tries) = (Now, 0);
        while (!NoticeRetry.IsHopeless(Now, at))
        {
            at += NoticeRetry.Wait(++tries, 0.5);
        }
        tries.ShouldBeInRange(45, 60);
        NoticeRetry.Wait(1, 0).ShouldBe(TimeSpan.FromSeconds(10));
        NoticeRetry.Wait(1, 0, TimeSpan.FromMinutes(5)).ShouldBe(TimeSpan.FromMinutes(5));
        NoticeRetry.Wait(1, 0, TimeSpan.FromDays(5)).ShouldBe(TimeSpan.FromHours(1));
    }

    [Fact]
    public void A_mail_says_the_worst_first_and_one_cause_in_one_line()
    {
        ToldAlert Lost(string name) => new(name, "Saltmarsh Ferry/Vessels/Dunlin", "Lost contact", Severity.Critical, Now, $"{name} went away.", "Jobs wait.", "Look at its line.", "https://umbrek.halyard.example/now/1");
        var text = NoticeText.Write("Ferry", [new ToldLine("2 of 2 hosts of Dunlin went away together.", Severity.Critical, [Lost("dunlin-log-01"), Lost("dunlin-log-02")])], [Lost("plover-log-01")], null, London);
        text.Subject.ShouldBe("critical: 2 of 2 hosts of Dunlin went away together.");
        text.Body.ShouldBe("""
            Critical: 2 of 2 hosts of Dunlin went away together.
              Since Thu 26 Nov 09:00
              - dunlin-log-01 (Saltmarsh Ferry/Vessels/Dunlin)
              - dunlin-log-02 (Saltmarsh Ferry/Vessels/Dunlin)
              What follows: Jobs wait.
              What to do: Look at its line.
              Look at it: https://umbrek.halyard.example/now/1

            Over:
              - Lost contact on plover-log-01 (Saltmarsh Ferry/Vessels/Dunlin), raised Thu 26 Nov 09:00

            -- 
            Umbrek, notice 'Ferry'. Who is told what stands in the console under Rules, Notices.

            """.ReplaceLineEndings("\n"));
        NoticeText.Write("Ferry", [new ToldLine("Gone.", Severity.Critical, [Lost("a")])], [], TimeSpan.FromMinutes(20), London).Subject.ShouldBe("Not taken up: critical: Gone.");
        NoticeText.Write("Ferry", [], [Lost("a")], null, London).Subject.ShouldBe("Over: Lost contact on a");
    }

    [Fact]
    public void What_a_host_calls_itself_breaks_no_line_of_a_mail()
    {
        var alert = new ToldAlert("kiosk\r\nBcc: everybody@halyard.example", "Quay", "Full\u001b[31m", Severity.Warning, Now, "It is\nfull.", null, null, null);
        var text = NoticeText.Write("Ferry", [new ToldLine(alert.What + new string('x', 500), Severity.Warning, [alert])], [alert], null, London);
        text.Subject.ShouldNotContain('\n');
        text.Subject.Length.ShouldBeLessThanOrEqualTo(150);
        text.Body.ShouldNotContain("\nBcc:");
        text.Body.ShouldNotContain('\u001b');
    }

    /// <summary>RFC 9421 appendix B.2.5, with the shared secret of B.1.5.</summary>
    [Fact]
    public void Signatures_are_those_of_the_standard()
    {
        var secret = Convert.FromBase64String("uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==");
        var signed = HookSignature.Base(
            [("\"date\"", "Tue, 20 Apr 2021 02:07:55 GMT"), ("\"@authority\"", "example.com"), ("\"content-type\"", "application/json")],
            "(\"date\" \"@authority\" \"content-type\");created=1618884473;keyid=\"test-shared-secret\"");
        Convert.ToBase64String(System.Security.Cryptography.HMACSHA256.HashData(secret, signed)).ShouldBe("pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=");
        // RFC 9530 appendix B.1.
        HookSignature.Digest(Encoding.UTF8.GetBytes("{\"hello\": \"world\"}\n")).ShouldBe("sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:");
        var (input, signature) = HookSignature.Sign(secret, "POST", new Uri("https://desk.halyard.example/alerts?a=b"), "application/json", "sha-256=::", "key", Now);
        input.ShouldBe($"sig1=(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created={Now.ToUnixTimeSeconds()};keyid=\"key\";alg=\"hmac-sha256\"");
        signature.ShouldStartWith("sig1=:");
    }
}
