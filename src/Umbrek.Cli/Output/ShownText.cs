using System.Text;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Output;

/// <summary>Shows what is written and obeys none of it: control characters become visible marks.</summary>
public sealed class ShownText(TextWriter to) : TextWriter
{
    public override Encoding Encoding => to.Encoding;

    public override void Write(char value) => to.Write(TerminalText.Neutralise($"{value}"));

    public override void Write(string? value) => to.Write(value is null ? null : TerminalText.Neutralise(value));

    public override void Write(char[] buffer, int index, int count) => Write(new string(buffer, index, count));

    public override void Write(ReadOnlySpan<char> buffer) => Write(buffer.ToString());

    public override void WriteLine(string? value)
    {
        Write(value);
        to.WriteLine();
    }

    public override void Flush() => to.Flush();
}
