using System.Xml.Linq;
using NetArchTest.Rules;
using Umbrek.Tests;

namespace Umbrek.Service.Tests.Hosting;

public sealed class ArchitectureTests
{
    private static readonly string Source = Path.Combine(TestPrograms.Root, "src");

    [Theory]
    [InlineData("Core", "")]
    [InlineData("Wire", "Core")]
    [InlineData("Service", "Wire")]
    [InlineData("Agent", "Wire")]
    [InlineData("Cli", "Wire")]
    [InlineData("Simulation", "Agent")]
    public void Arrows_go_one_way(string project, string mayKnow)
    {
        var file = XDocument.Load(Path.Combine(Source, $"Umbrek.{project}", $"Umbrek.{project}.csproj"));
        var known = file.Descendants("ProjectReference").Select(r => Path.GetFileNameWithoutExtension(r.Attribute("Include")!.Value)["Umbrek.".Length..]);
        string.Join(',', known).ShouldBe(mayKnow);
    }

    [Fact]
    public void The_core_knows_no_web_database_process_socket_file_or_clock()
    {
        var result = Types.InAssembly(typeof(Umbrek.Core.Jobs.RunEnd).Assembly).ShouldNot().HaveDependencyOnAny(
            "System.Net", "System.Data", "Microsoft.AspNetCore", "Microsoft.EntityFrameworkCore", "System.Diagnostics.Process",
            "System.IO.File", "System.IO.FileStream", "System.IO.Directory", "System.TimeProvider", "System.Threading.Timer").GetResult();
        (result.FailingTypeNames ?? []).ShouldBeEmpty();
        var clocks = Directory.EnumerateFiles(Path.Combine(Source, "Umbrek.Core"), "*.cs", SearchOption.AllDirectories)
            .Where(f => File.ReadAllText(f) is var text && (text.Contains("UtcNow", StringComparison.Ordinal) || text.Contains("DateTime.Now", StringComparison.Ordinal)));
        clocks.ShouldBeEmpty();
    }

    [Fact]
    public void Nobody_but_the_composition_asks_the_clock_itself()
    {
        var askers = Directory.EnumerateFiles(Source, "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("Simulation", StringComparison.Ordinal) && !f.EndsWith("Commands.cs", StringComparison.Ordinal))
            .Where(f => File.ReadAllText(f) is var text && (text.Contains("DateTimeOffset.UtcNow", StringComparison.Ordinal) || text.Contains("DateTime.UtcNow", StringComparison.Ordinal)));
        askers.ShouldBeEmpty();
    }

    [Fact]
    public void Areas_have_the_same_names_on_every_floor()
    {
        string[] areas = ["Enrolment", "Estate", "Access", "Health", "Jobs", "Shell", "Files", "Desktop", "Sessions", "Inventory", "Audit"];
        string[] rooms = ["Hosting", "Storage", "Links", "Relay", "Text", "Api", "Output", "Platform", "Demo"];
        var strangers = Directory.EnumerateDirectories(Source).SelectMany(Directory.EnumerateDirectories).Select(d => Path.GetFileName(d)!)
            .Where(d => !areas.Contains(d) && !rooms.Contains(d) && d is not ("bin" or "obj")).Distinct();
        strangers.ShouldBeEmpty();
    }
}
