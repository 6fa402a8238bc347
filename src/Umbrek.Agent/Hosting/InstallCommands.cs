using System.CommandLine;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Text;
using Umbrek.Wire;

namespace Umbrek.Agent.Hosting;

/// <summary><c>umbrek-agent install</c> and <c>uninstall</c>.</summary>
public static class InstallCommands
{
    private const string ByHand = "/usr/local/bin/umbrek-agent";

    public static Command Install()
    {
        var service = new Option<string?>("--service") { Description = "Address of the service." };
        var token = new Option<string?>("--token") { Description = "The enrolment token." };
        var settings = new Option<string?>("--settings") { Description = "A file with both, as a package brings it." };
        var label = new Option<string?>("--label") { Description = "A friendly name; the system's own name is used when it is left out." };
        var accessKey = new Option<string>("--access-key") { Description = "none, generate (for the service's vault), or ask.", DefaultValueFactory = _ => "none" };
        accessKey.AcceptOnlyFromAmong("none", "generate", "ask");
        var keyFile = new Option<string?>("--access-key-file") { Description = "Reads the access key from this file instead of asking." };
        var directory = new Option<string>("--directory") { Description = "Where the program goes.", DefaultValueFactory = _ => UnitFile.DefaultProgramDirectory };
        var proxy = new Option<string?>("--proxy") { Description = "The HTTP proxy to the service, like http://proxy.example:3128; HTTPS_PROXY is honoured too." };
        var wait = new Option<string>("--wait") { Description = "How long to wait for a service that can't be reached.", DefaultValueFactory = _ => "10min" };
        var state = AgentCommands.StateOption();
        var command = new Command("install", "Installs the agent, joins this computer to a service, and starts it now and with the system. Example: umbrek-agent install --service https://care.halyard.example:8443 --token TOKEN")
        {
            service, token, settings, label, accessKey, keyFile, directory, proxy, wait, state,
        };
        command.SetAction(async (parsed, cancel) =>
        {
            try
            {
                var wish = ReadSettings(parsed.GetValue(settings), parsed.GetValue(service), parsed.GetValue(token), parsed.GetValue(accessKey)!);
                if (parsed.GetValue(proxy) is { } through)
                {
                    if (!Uri.TryCreate(through, UriKind.Absolute, out var address) || address.Scheme != "http")
                    {
                        throw new EnrolmentException($"'{through}' is no address of a proxy; write it like http://proxy.example:3128");
                    }
                    Environment.SetEnvironmentVariable("HTTPS_PROXY", through);
                }
                var patience = Units.ParseSpan(parsed.GetRequiredValue(wait)) ?? throw new EnrolmentException($"'{parsed.GetValue(wait)}' is no length of time; write it like 90s, 10min or 8h.");
                var installer = new Installer(new StateDirectory(parsed.GetRequiredValue(state)), Path.GetFullPath(parsed.GetRequiredValue(directory)), new LinuxPlatform(), ServiceKeepers.Find(), TimeProvider.System, Console.Error.WriteLine);
                var report = await installer.InstallAsync(wish.Service, wish.Token, parsed.GetValue(label), () => ReadAccessKey(wish.AccessKey, parsed.GetValue(keyFile)), patience, ByHand, cancel).ConfigureAwait(false);
                Console.WriteLine(report);
                return 0;
            }
            catch (OperationCanceledException)
            {
                return AgentCommands.Complain("Given up. Run it again whenever you like; it goes on where it was.");
            }
            catch (Exception e) when (e is EnrolmentException or InvalidDataException or IOException or UnauthorizedAccessException or JsonException)
            {
                return AgentCommands.Complain(e.Message);
            }
        });
        return command;
    }

    public static Command Uninstall()
    {
        var state = AgentCommands.StateOption();
        var wait = new Option<string>("--wait") { Description = "How long to try to tell the service.", DefaultValueFactory = _ => "15s" };
        var command = new Command("uninstall", "Tells the service, stops the agent and removes everything of it from this computer. Example: umbrek-agent uninstall") { state, wait };
        command.SetAction(async (parsed, cancel) =>
        {
            try
            {
                var patience = Units.ParseSpan(parsed.GetRequiredValue(wait)) ?? throw new EnrolmentException($"'{parsed.GetValue(wait)}' is no length of time; write it like 15s or 1min.");
                var installer = new Installer(new StateDirectory(parsed.GetRequiredValue(state)), "", new LinuxPlatform(), ServiceKeepers.Find(), TimeProvider.System, Console.Error.WriteLine);
                Console.WriteLine(await installer.UninstallAsync(patience, ByHand, cancel).ConfigureAwait(false));
                return 0;
            }
            catch (Exception e) when (e is EnrolmentException or InvalidDataException or IOException or UnauthorizedAccessException)
            {
                return AgentCommands.Complain(e.Message);
            }
        });
        return command;
    }

    private static (Uri Service, string Token, AccessKeyRule AccessKey) ReadSettings(string? file, string? service, string? token, string accessKey)
    {
        if (file is null)
        {
            if (service is null || token is null)
            {
                throw new EnrolmentException("Say where to join: --service URL --token TOKEN, both as the installer's page shows them.");
            }
            var rule = accessKey switch { "generate" => AccessKeyRule.Generate, "ask" => AccessKeyRule.AskAtInstall, _ => AccessKeyRule.None };
            return (AgentCommands.ReadAddress(service), token, rule);
        }
        try
        {
            var read = JsonSerializer.Deserialize(File.ReadAllBytes(file), LinkJson.Default.InstallerSettings);
            return read is { Service: not null, Token: not null } ? (read.Service, read.Token, read.AccessKey) : throw new JsonException("service and token are missing");
        }
        catch (JsonException e)
        {
            throw new EnrolmentException($"{file} is damaged ({e.Message}). Get the package again.");
        }
    }

    private static AccessKeyChoice ReadAccessKey(AccessKeyRule rule, string? file) =>
        file is null && rule != AccessKeyRule.AskAtInstall ? new AccessKeyChoice(rule) : new AccessKeyChoice(AccessKeyRule.AskAtInstall, SecretPrompt.AccessKey(file, "--access-key-file"));
}
