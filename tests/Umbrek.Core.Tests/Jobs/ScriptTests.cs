using CsCheck;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class ScriptTests
{
    private static readonly Gen<string> Word = Gen.Char["abcxyzÄß/.:?-_09"].Array[1, 8].Select(c => new string(c)).Where(w => !w.Contains("--"));
    private static readonly Gen<string> Line = Word.Array[1, 4].Select(w => string.Join(' ', w));
    private static readonly Gen<string> AnyText = Gen.Char["ab \n\r\"\\=-:,?ü"].Array[0, 12].Select(c => new string(c));

    private static readonly Gen<ScriptParameter> Parameters =
        Gen.Select(Gen.Enum<ParameterKind>(), Line.Null(), Gen.Bool, Gen.Int[-50, 50].Nullable(), Gen.Int[0, 90].Nullable(), Line.Array[1, 4], AnyText, Gen.Bool)
            .Select((kind, description, optional, least, span, choices, text, hasDefault) =>
            {
                var isNumber = kind is ParameterKind.Whole or ParameterKind.Number;
                var words = choices.Distinct().ToArray();
                var value = kind switch
                {
                    ParameterKind.Whole or ParameterKind.Number => $"{least ?? 7}",
                    ParameterKind.Choice => words[0],
                    ParameterKind.YesNo => "no",
                    ParameterKind.Path => "/" + text,
                    ParameterKind.Day => "2026-03-29",
                    _ => text,
                };
                return new ScriptParameter("DAYS_1", kind, description, hasDefault ? value : null, optional,
                    isNumber ? least : null, isNumber && least is not null && span is not null ? least + span : null, kind == ParameterKind.Choice ? words : null);
            });

    [Fact]
    public void A_parameter_is_read_as_it_was_written() =>
        Parameters.Sample(parameter =>
        {
            parameter.Check().ShouldBeNull();
            var line = ParameterText.Write(parameter);
            line.ShouldNotContain('\n');
            var read = ParameterText.Read(line, out var problem);
            problem.ShouldBe("");
            read.ShouldNotBeNull();
            (read with { Choices = null }).ShouldBe(parameter with { Choices = null });
            (read.Choices ?? []).ShouldBe(parameter.Choices ?? []);
        });

    [Theory]
    [InlineData("DAYS: whole 1..90 = 14 -- how old", "DAYS", ParameterKind.Whole, "14", "how old", false)]
    [InlineData("NOTE?", null, default(ParameterKind), null, null, false)]
    [InlineData("NOTE?:", "NOTE", ParameterKind.Text, null, null, true)]
    [InlineData("HOW: Choice quiet, loud = quiet", "HOW", ParameterKind.Choice, "quiet", null, false)]
    [InlineData("A: text -- a = b", "A", ParameterKind.Text, null, "a = b", false)]
    [InlineData("A: text = \"x -- y\" -- z -- w", "A", ParameterKind.Text, "x -- y", "z -- w", false)]
    [InlineData("A: text = \"x", null, default(ParameterKind), null, null, false)]
    [InlineData("A: colour", null, default(ParameterKind), null, null, false)]
    [InlineData("A: whole 1-9", null, default(ParameterKind), null, null, false)]
    public void Lines_that_people_write(string line, string? name, ParameterKind kind, string? value, string? description, bool optional)
    {
        var read = ParameterText.Read(line, out var problem);
        (read is null).ShouldBe(name is null);
        (problem.Length > 0).ShouldBe(name is null);
        if (read is not null)
        {
            (read.Name, read.Kind, read.Default, read.Description, read.Optional).ShouldBe((name!, kind, value, description, optional));
        }
    }

    [Theory]
    [InlineData("PATH: text", "meaning of its own")]
    [InlineData("LD_PRELOAD: text", "meaning of its own")]
    [InlineData("1X: text", "no name of a parameter")]
    [InlineData("A: whole 9..1", "swap them")]
    [InlineData("A: whole 1.5..2", "bounds must be whole")]
    [InlineData("A: text 1..2", "only numbers have")]
    [InlineData("A: choice", "say which")]
    [InlineData("A: choice a,,b", "can't be a choice")]
    [InlineData("A: choice a, a", "there twice")]
    [InlineData("A: whole 1..9 = 10", "must be a whole number from 1 to 9, not '10'")]
    public void Parameters_that_make_no_sense_are_refused(string line, string why) =>
        ParameterText.Read(line, out _)!.Check()!.ShouldContain(why);

    [Theory]
    [InlineData("A: whole", " +007 ", "7")]
    [InlineData("A: whole", "1.0", null)]
    [InlineData("A: whole", "1e3", null)]
    [InlineData("A: whole ..5", "6", null)]
    [InlineData("A: number", "-.50", "-0.5")]
    [InlineData("A: number", "1,5", null)]
    [InlineData("A: yes-no", "Y", "yes")]
    [InlineData("A: yes-no", "maybe", null)]
    [InlineData("A: choice a, b", "B", null)]
    [InlineData("A: path", "var/log", null)]
    [InlineData("A: path", "C:\\Tills", "C:\\Tills")]
    [InlineData("A: day", "2026-02-29", null)]
    [InlineData("A: day", "2028-02-29", "2028-02-29")]
    [InlineData("A: text", "; rm -rf $HOME", "; rm -rf $HOME")]
    [InlineData("A: text", "a\0b", null)]
    public void Values_are_read_by_their_kind(string line, string typed, string? expected)
    {
        ParameterText.Read(line, out _)!.Read(typed, out var problem).ShouldBe(expected);
        (problem.Length > 0).ShouldBe(expected is null);
    }

    [Fact]
    public void All_that_does_not_fit_is_said_at_once()
    {
        var parameters = new[] { "DAYS: whole 1..90", "WHERE: path -- the folder", "HOW: choice quiet, loud = quiet", "NOTE?: text" }.Select(l => ParameterText.Read(l, out _)!).ToList();
        ScriptParameters.Check(parameters).ShouldBeNull();
        ScriptParameters.Check([.. parameters, new ScriptParameter("days")])!.ShouldContain("two parameters days");
        ScriptParameters.Fill(parameters, new Dictionary<string, string> { ["DAYS"] = "0", ["DAY"] = "3" }, out var problem).ShouldBeNull();
        problem.ShouldContain("no parameter 'DAY'; did you mean DAYS?");
        problem.ShouldContain("DAYS must be a whole number from 1 to 90, not '0'.");
        problem.ShouldContain("WHERE is needed (the folder).");
        var values = ScriptParameters.Fill(parameters, new Dictionary<string, string> { ["DAYS"] = "30", ["WHERE"] = "/var/tmp", ["HOW"] = "" }, out _)!;
        values.ShouldBe(new Dictionary<string, string> { ["DAYS"] = "30", ["WHERE"] = "/var/tmp", ["HOW"] = "quiet" });
        ScriptParameters.Fill([new ScriptParameter("NOTE")], new Dictionary<string, string> { ["NOTE"] = "" }, out _)!["NOTE"].ShouldBe("");
    }

    [Fact]
    public void Commands_become_scripts()
    {
        ScriptText.Of(new CommandSpec { Line = "df -h", Shell = "/bin/bash", User = "www-data" }).ShouldBe(new CommandSpec { Script = "#!/bin/bash\ndf -h\n", User = "www-data" });
        ScriptText.Of(new CommandSpec { Arguments = ["printf", "%s", "it's"] }).Script.ShouldBe("#!/bin/sh\nexec printf %s 'it'\\''s'\n");
        ScriptText.Of(new CommandSpec { Script = "a\r\nb\n" }).Script.ShouldBe("a\nb\n");
    }

    [Fact]
    public void A_kept_script_is_known_by_its_text_and_values()
    {
        var kept = new CommandSpec { Script = "find $WHERE", Environment = new Dictionary<string, string> { ["LC_ALL"] = "C" } };
        var filled = ScriptText.Fill(kept, new Dictionary<string, string> { ["WHERE"] = "/tmp" });
        filled.Environment!.ShouldBe(new Dictionary<string, string> { ["LC_ALL"] = "C", ["WHERE"] = "/tmp" }, ignoreOrder: true);
        ScriptText.IsOf(filled with { User = "www-data", TimeoutSeconds = 5 }, filled).ShouldBeTrue();
        ScriptText.IsOf(filled with { Script = "find /" }, filled).ShouldBeFalse();
        ScriptText.IsOf(filled with { Shell = "/usr/bin/env" }, filled).ShouldBeFalse();
        ScriptText.IsOf(filled with { Environment = new Dictionary<string, string> { ["WHERE"] = "/", ["LC_ALL"] = "C" } }, filled).ShouldBeFalse();
        ScriptText.IsOf(filled with { Arguments = ["x"] }, filled).ShouldBeFalse();
        ScriptText.Settings(filled, [new ScriptParameter("WHERE", ParameterKind.Path)]).ShouldBe(["WHERE: path", "with LC_ALL=C", "with WHERE=/tmp"]);
    }
}
