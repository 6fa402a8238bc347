using Umbrek.Cli.Hosting;

namespace Umbrek.Cli.Tests.Hosting;

public sealed class ShellWordsTests
{
    [Theory]
    [InlineData("recipes", "recipes")]
    [InlineData("1:cave.txt", "1:cave.txt")]
    [InlineData("Käserei-03", "Käserei-03")]
    [InlineData("two words", "'two words'")]
    [InlineData("$HOME", "'$HOME'")]
    [InlineData("", "''")]
    public void A_word_is_written_as_a_shell_takes_it(string word, string written)
    {
        ShellWords.Quote(word).ShouldBe(written);
        ShellWords.Split(ShellWords.Quote(word))[0].ShouldBe(word);
    }

    [Fact]
    public void A_quotation_mark_in_a_word_comes_back_out_of_it() => ShellWords.Split(ShellWords.Quote("Ines' \"board\" \\ `x`"))[0].ShouldBe("Ines' \"board\" \\ `x`");
}
