using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>Whose computers they are.</summary>
public static class CustomerCommands
{
    public static Command Customer(ClientContext client)
    {
        var command = ClientCommands.Named("customer", "Customers: contact, notes, their mark, fields of their own.", "umbrek customer list");
        command.Add(List(client), Show(client), Set(client), AddField(client), RemoveField(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists customers.", "umbrek customer list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("customers", WireJson.Default.PageCustomerInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListCustomerInfo, "There is no customer yet. Make one: umbrek group new 'Saltmarsh Ferry'",
                new("Customer", c => c.Name), new("Hosts", c => $"{c.Hosts}", Right: true), new("Contact", c => FirstLine(c.Contact)), new("Mark", c => Mark(c)));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var name = NameArgument();
        var command = ClientCommands.Named("show", "Shows what is kept of a customer.", "umbrek customer show 'Saltmarsh Ferry'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client.Format(parsed), await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Set(ClientContext client)
    {
        var name = NameArgument();
        var contact = new Option<string?>("--contact") { Description = "Who to talk to, and how." };
        var address = new Option<string?>("--address") { Description = "Where they are." };
        var notes = new Option<string?>("--notes") { Description = "What to know; '-' reads it from standard input." };
        var colour = new Option<string?>("--colour") { Description = $"One of {string.Join(", ", CustomerMark.Colours)}." };
        var emblem = new Option<string?>("--emblem") { Description = $"One of {string.Join(", ", CustomerMark.Emblems)}." };
        var command = ClientCommands.Named("set", "Changes what is kept of a customer; '' removes something.", "umbrek customer set 'Saltmarsh Ferry' --contact 'Wanda Pell, wanda@saltmarsh.example' --emblem saltire");
        command.Add(name, contact, address, notes, colour, emblem);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var before = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var change = new CustomerChange(parsed.GetValue(contact), parsed.GetValue(address), parsed.GetValue(notes) is { } n ? Edits.ReadText(n) : null, parsed.GetValue(colour), parsed.GetValue(emblem));
            if (change == new CustomerChange())
            {
                throw new ClientException("Say what to change: --contact, --address, --notes, --colour or --emblem.", ExitCodes.WrongUse);
            }
            Print(client.Format(parsed), await api.PatchAsync($"customers/{before.Id}", change, before.Version, WireJson.Default.CustomerChange, WireJson.Default.CustomerInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command AddField(ClientContext client)
    {
        var name = NameArgument();
        var field = new Argument<string>("field") { Description = "What the field is called." };
        var kind = new Option<string>("--kind") { Description = "text, number, date, or choice.", DefaultValueFactory = _ => "text" };
        kind.AcceptOnlyFromAmong("text", "number", "date", "choice");
        var choices = new Option<string[]>("--choice") { Description = "One of the choices; given again for each." };
        var command = ClientCommands.Named("add-field", "Gives a customer's hosts a field of their own.", "umbrek customer add-field 'Saltmarsh Ferry' 'Contract ends' --kind date");
        command.Add(name, field, kind, choices);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var customer = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var wish = new NewOwnField(parsed.GetRequiredValue(field), parsed.GetValue(kind) switch { "number" => OwnFieldKind.Number, "date" => OwnFieldKind.Date, "choice" => OwnFieldKind.Choice, _ => OwnFieldKind.Text }, parsed.GetValue(choices) is { Length: > 0 } c ? c : null);
            Print(client.Format(parsed), await api.PostAsync($"customers/{customer.Id}/fields", wish, WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command RemoveField(ClientContext client)
    {
        var name = NameArgument();
        var field = new Argument<string>("field") { Description = "What the field is called." };
        var command = ClientCommands.Named("remove-field", "Removes a field with all its values.", "umbrek customer remove-field 'Saltmarsh Ferry' Desk");
        command.Add(name, field);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var customer = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var typed = parsed.GetRequiredValue(field);
            var found = customer.Fields.FirstOrDefault(f => string.Equals(f.Name, typed, StringComparison.OrdinalIgnoreCase))
                ?? throw new ClientException($"{customer.Name} has no field '{typed}'.{(customer.Fields.Count == 0 ? "" : $" It has {string.Join(", ", customer.Fields.Select(f => f.Name))}.")}", ExitCodes.NothingMatched);
            await api.ActAsync(HttpMethod.Delete, $"customers/{customer.Id}/fields/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{customer.Name} has no field {found.Name} any more.", found, WireJson.Default.OwnFieldInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> NameArgument() => new("customer") { Description = "The customer's name." };

    private static async Task<CustomerInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = (await api.GetAsync("customers", WireJson.Default.PageCustomerInfo, cancel).ConfigureAwait(false)).Items;
        return all.FirstOrDefault(c => string.Equals(c.Name, name.Trim(), StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no customer '{name}'.{(Similarity.Closest(name, all.Select(c => c.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek customer list' shows all.")}", ExitCodes.NothingMatched);
    }

    private static void Print(OutputFormat format, CustomerInfo c) => Listing.PrintOne(format, c, WireJson.Default.CustomerInfo,
        ("Customer", c.Name), ("Hosts", $"{c.Hosts}"), ("Contact", c.Contact), ("Address", c.Address), ("Mark", Mark(c)), ("Notes", c.Notes),
        ("Own fields", c.Fields.Count == 0 ? null : string.Join('\n', c.Fields.Select(f => $"{f.Name} ({f.Kind.ToString().ToLowerInvariant()}{(f.Choices.Count > 0 ? ": " + string.Join(", ", f.Choices) : "")})"))));

    private static string Mark(CustomerInfo c) => string.Join(' ', new[] { c.Colour, c.Emblem }.Where(t => t is not null)) is { Length: > 0 } chosen ? chosen : "by its name";

    private static string FirstLine(string? text) => text?.Split('\n')[0] ?? "";
}
