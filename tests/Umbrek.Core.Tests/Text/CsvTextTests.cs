using Umbrek.Core.Text;

namespace Umbrek.Core.Tests.Text;

public sealed class CsvTextTests
{
    [Theory]
    [InlineData("=HYPERLINK(\"https://orrin.example\")", "\"'=HYPERLINK(\"\"https://orrin.example\"\")\"")]
    [InlineData("+1+cmd|' /C calc'!A0", "'+1+cmd|' /C calc'!A0")]
    [InlineData("-2+3", "'-2+3")]
    [InlineData("@SUM(A1)", "'@SUM(A1)")]
    [InlineData("\t=1", "'\t=1")]
    [InlineData("\r=1", "\"'\r=1\"")]
    [InlineData("-2.5", "-2.5")]
    [InlineData("+3,000", "\"+3,000\"")]
    [InlineData("-12 %", "-12 %")]
    [InlineData("quay-ticket-01", "quay-ticket-01")]
    [InlineData("'til noon", "'til noon")]
    [InlineData("", "")]
    public void A_spreadsheet_finds_no_formula(string cell, string written) => CsvText.Escape(cell).ShouldBe(written);

    [Theory]
    [InlineData("=1")]
    [InlineData("'=1")]
    [InlineData("''=1")]
    [InlineData("'")]
    [InlineData("'til noon")]
    [InlineData("-5")]
    [InlineData("plain")]
    public void What_was_guarded_comes_back_as_it_was(string cell) => CsvText.Unguard(CsvText.Guard(cell)).ShouldBe(cell);
}
