using System.Text;

namespace Umbrek.Cli.Hosting;

/// <summary>Questions to the person at the terminal.</summary>
public static class Prompt
{
    public static bool CanAsk => !Console.IsInputRedirected;

    public static string Line(string question)
    {
        Console.Error.Write(question);
        return Console.ReadLine() ?? throw new ClientException("No answer was given.");
    }

    /// <summary>Goes on only with a yes: typed, or given beforehand.</summary>
    /// <param name="act">What is about to be done, and to what: "Restart the computer on quay-ticket-03 of Saltmarsh Ferry".</param>
    /// <exception cref="ClientException">Nothing is to be done.</exception>
    public static void Confirm(string act, bool yes)
    {
        if (!yes && !(CanAsk ? Line($"{act}? Type yes: ").Trim().Equals("yes", StringComparison.OrdinalIgnoreCase) : throw new ClientException($"{act}: add --yes to say that you are sure.", ExitCodes.WrongUse)))
        {
            throw new ClientException("Nothing was done.");
        }
    }

    /// <summary>A password: read from the first line of standard input, or typed without being shown.</summary>
    public static string Password(bool fromStdin, string question)
    {
        if (fromStdin || !CanAsk)
        {
            return fromStdin
                ? Console.ReadLine() ?? throw new ClientException("No password came on standard input.")
                : throw new ClientException("There is no terminal to type the password at; pipe it in and add --password-stdin.", ExitCodes.WrongUse);
        }
        Console.Error.Write(question);
        var typed = new StringBuilder();
        while (Console.ReadKey(intercept: true) is var key && key.Key != ConsoleKey.Enter)
        {
            if (key.Key == ConsoleKey.Backspace)
            {
                typed.Length = Math.Max(0, typed.Length - 1);
            }
            else if (!char.IsControl(key.KeyChar))
            {
                typed.Append(key.KeyChar);
            }
        }
        Console.Error.WriteLine();
        return typed.ToString();
    }
}
