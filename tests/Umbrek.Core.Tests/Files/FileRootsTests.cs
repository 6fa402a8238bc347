using CsCheck;
using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Files;

public sealed class FileRootsTests
{
    private static readonly string[] Names = ["a", "b", "ab", "c"];
    private static readonly Gen<string> Root = Gen.Int[0, 2].Select(n => Names[n]).List[0, 3].Select(parts => "/" + string.Join('/', parts));
    private static readonly Gen<IReadOnlyList<string>?> Roots = Root.List[0, 4].Null().Select(l => l is null ? null : FileRoots.Normalise(l));
    private static readonly Gen<FileName> Path = Gen.Int[0, 3].Select(n => Names[n]).List[0, 4].Select(parts => new FileName("/" + string.Join('/', parts)));

    private static bool Lets(IReadOnlyList<string>? roots, FileName path) => roots is null || FileRoots.Find(roots, path) is not null;

    [Fact]
    public void What_both_let_into_is_what_each_lets_into() =>
        Gen.Select(Roots, Roots, Path).Sample((one, other, path) =>
        {
            var both = FileRoots.Intersect(one, other);
            Lets(both, path).ShouldBe(Lets(one, path) && Lets(other, path));
            FileRoots.Same(both, FileRoots.Intersect(other, one)).ShouldBeTrue();
        });

    [Fact]
    public void Tidied_they_let_into_the_same_and_none_lies_below_another() =>
        Gen.Select(Root.List[0, 5], Path).Sample((roots, path) =>
        {
            var tidy = FileRoots.Normalise(roots).ShouldNotBeNull();
            Lets(tidy, path).ShouldBe(Lets(roots, path));
            tidy.ShouldAllBe(a => !tidy.Any(b => a != b && (b == "/" || a.StartsWith(b + "/", StringComparison.Ordinal))));
        });

    [Fact]
    public void A_name_that_only_begins_so_does_not_lie_below()
    {
        FileRoots.Find(["/srv"], new FileName("/srvother/x")).ShouldBeNull();
        FileRoots.Find(["/srv"], new FileName("/srv")).ShouldNotBeNull().Below.ShouldBeEmpty();
        FileRoots.Find(["/srv/in"], new FileName("/srv/in/a/../b")).ShouldNotBeNull().Below.ShouldBe("a/../b"u8.ToArray());
        FileRoots.Find(["/srv"], new FileName("//srv/x")).ShouldBeNull();
        FileRoots.Find(["/"], new FileName("/x")).ShouldNotBeNull().Below.ShouldBe("x"u8.ToArray());
    }

    [Theory]
    [InlineData("srv", "no whole path")]
    [InlineData("", "no whole path")]
    [InlineData("/srv/../etc", "dots")]
    [InlineData("/srv/./x", "dots")]
    [InlineData("/srv\n", "control character")]
    public void What_is_no_root_is_said(string root, string problem)
    {
        FileRoots.Check(root).ShouldNotBeNull().ShouldContain(problem);
        FileRoots.Normalise([root]).ShouldBeNull();
    }

    [Fact]
    public void They_are_told_in_words()
    {
        FileRoots.Words([]).ShouldBe("no folder");
        FileRoots.Words(["/"]).ShouldBe("everywhere");
        FileRoots.Words(["/home", "/srv", "/var"]).ShouldBe("/home, /srv and /var");
        FileRoots.Normalise(["/srv//x/", "/srv", "/srv"]).ShouldBe(["/srv"]);
        FileRoots.Normalise([.. Enumerable.Range(0, 33).Select(n => $"/{n}")]).ShouldBeNull();
    }
}
