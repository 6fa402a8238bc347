using System.CommandLine;
using System.CommandLine.Completions;
using Umbrek.Cli.Hosting;
using Umbrek.Wire;

namespace Umbrek.Cli.Estate;

/// <summary>Selections on the command line, completed by the service: names, groups, keys and values.</summary>
public static class SelectionArgument
{
    public const string Says = "Which hosts: names with * and ?, in \"GROUP\", is linked, tagged TAG, used by PERSON, memory.free < 1 GiB, and / or / not.";

    /// <summary>Marks completions that replace the whole word and need not begin as it does.</summary>
    public const string Whole = "selection";

    public static Argument<string> Optional(ClientContext client)
    {
        var argument = new Argument<string>("selection") { Description = Says + " All when left out.", DefaultValueFactory = _ => "all", HelpName = "selection" };
        argument.CompletionSources.Add(context => Complete(client, context));
        return argument;
    }

    public static Argument<string> Required(ClientContext client)
    {
        var argument = new Argument<string>("selection") { Description = Says, HelpName = "selection" };
        argument.CompletionSources.Add(context => Complete(client, context));
        return argument;
    }

    public static Option<string> Option(ClientContext client, string name)
    {
        var option = new Option<string>(name) { Description = Says, Required = true, HelpName = "selection" };
        option.CompletionSources.Add(context => Complete(client, context));
        return option;
    }

    /// <summary>Whole words that go on with what is typed: the shell replaces the word, so what stands before stays in it.</summary>
    internal static IEnumerable<CompletionItem> Complete(ClientContext client, CompletionContext context)
    {
        var typed = client.Completing ?? context.WordToComplete;
        return Offered.Ask(client, async (api, cancel) =>
        {
            var found = await api.GetAsync($"selections/completions?text={Uri.EscapeDataString(typed)}&cursor={typed.Length}", WireJson.Default.Completions, cancel).ConfigureAwait(false);
            return found.Items.Select(i => new CompletionItem(typed[..found.From] + i.Text, sortText: Whole, documentation: i.Says));
        });
    }
}
