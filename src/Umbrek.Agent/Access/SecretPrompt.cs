using Umbrek.Agent.Enrolment;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Access;

/// <summary>Asks for a secret on the terminal without showing it.</summary>
public static class SecretPrompt
{
    /// <summary>An access key that passes the check, from a file or typed twice.</summary>
    /// <param name="option">What the file was given with, for the advice.</param>
    /// <exception cref="EnrolmentException">It is too weak, or there is nobody to ask.</exception>
    public static string AccessKey(string? file, string option)
    {
        if (file is not null)
        {
            var read = File.ReadAllText(file).TrimEnd('\r', '\n');
            return Core.Access.AccessKey.Check(read) is { } weak ? throw new EnrolmentException(weak) : read;
        }
        if (Console.IsInputRedirected)
        {
            throw new EnrolmentException($"The access key is to be chosen here, but there is nobody to ask: the input is no terminal. Run this in a terminal, or give {option} FILE.");
        }
        while (true)
        {
            var chosen = Hidden("Access key for this computer: ");
            if (Core.Access.AccessKey.Check(chosen) is { } problem)
            {
                Console.Error.WriteLine(problem);
            }
            else if (Hidden("The same again: ") == chosen)
            {
                return chosen;
            }
            else
            {
                Console.Error.WriteLine("The two differ; choose again.");
            }
        }
    }

    private static string Hidden(string prompt)
    {
        Console.Error.Write(prompt);
        var text = new System.Text.StringBuilder();
        while (Console.ReadKey(intercept: true) is var key && key.Key != ConsoleKey.Enter)
        {
            if (key.Key == ConsoleKey.Backspace)
            {
                text.Length = Math.Max(0, text.Length - 1);
            }
            else if (key.KeyChar != '\0')
            {
                text.Append(key.KeyChar);
            }
        }
        Console.Error.WriteLine();
        return text.ToString();
    }
}
