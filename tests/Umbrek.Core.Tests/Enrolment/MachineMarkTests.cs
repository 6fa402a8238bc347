using Umbrek.Core.Enrolment;

namespace Umbrek.Core.Tests.Enrolment;

public sealed class MachineMarkTests
{
    private const string Board = "4c4c4544-0051-3010-8052-b9c04f4e3732";
    private const string OtherBoard = "4c4c4544-0051-3010-8052-b9c04f4e9999";
    private const string System = "0123456789abcdef0123456789abcdef";
    private const string OtherSystem = "fedcba9876543210fedcba9876543210";

    [Theory]
    [InlineData(System, Board, System, Board, true)]
    [InlineData(OtherSystem, Board, System, Board, true)] // a new system on the same board
    [InlineData(System, OtherBoard, System, Board, false)] // a copied disk
    [InlineData(System, null, System, Board, true)]
    [InlineData(System, null, System, null, true)]
    [InlineData(OtherSystem, null, System, Board, false)]
    [InlineData(null, null, null, null, false)]
    public void Boards_decide_and_where_one_is_unknown_the_system_does(string? id, string? board, string? knownId, string? knownBoard, bool same) =>
        new MachineMark(id, board).IsSameMachineAs(new MachineMark(knownId, knownBoard)).ShouldBe(same);

    [Theory]
    [InlineData("00000000-0000-0000-0000-000000000000")]
    [InlineData("FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF")]
    [InlineData("03000200-0400-0500-0006-000700080009")]
    [InlineData("  ")]
    [InlineData("")]
    public void What_makers_leave_at_a_placeholder_tells_nothing(string board) =>
        new MachineMark(null, board).Normalise().HardwareId.ShouldBeNull();

    [Fact]
    public void Case_and_white_space_make_no_other_machine() =>
        new MachineMark(null, $" {Board.ToUpperInvariant()}\n").Normalise().HardwareId.ShouldBe(Board);

    [Fact]
    public void Two_boots_or_two_boards_at_once_are_two_machines()
    {
        new MachineMark(null, Board, "b1").CannotBe(new MachineMark(null, Board, "b1")).ShouldBeFalse();
        new MachineMark(null, Board, "b1").CannotBe(new MachineMark(null, Board, "b2")).ShouldBeTrue();
        new MachineMark(null, Board, "b1").CannotBe(new MachineMark(null, OtherBoard, "b1")).ShouldBeTrue();
        new MachineMark(null, null, null).CannotBe(new MachineMark(null, Board, "b1")).ShouldBeFalse();
    }

    [Fact]
    public void Of_two_the_one_with_the_enrolled_board_keeps_the_identity_and_else_the_one_that_is_linked()
    {
        var original = new MachineMark(null, Board, "b1");
        var copy = new MachineMark(null, OtherBoard, "b2");
        MachineMark.NewcomerKeeps(Board, copy, original).ShouldBeTrue();
        MachineMark.NewcomerKeeps(Board, original, copy).ShouldBeFalse();
        MachineMark.NewcomerKeeps(null, original, copy).ShouldBeFalse();
    }
}
