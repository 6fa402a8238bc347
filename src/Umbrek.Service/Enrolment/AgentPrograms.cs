using System.Reflection;
using System.Security.Cryptography;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Enrolment;

/// <summary>An agent program to hand out.</summary>
/// <param name="Content">Kept in memory: it is what a roll-out fetches a thousand times.</param>
/// <param name="Sha256">In hex.</param>
public sealed record AgentProgram(string Version, string File, byte[] Content, string Sha256)
{
    public long Size => Content.Length;
}

/// <summary>The agent program that came with this service.</summary>
public sealed class AgentPrograms
{
    private const string System = "linux-x64";

    public AgentPrograms(ServiceOptions options)
    {
        Directory = Path.Combine(options.AgentDirectory ?? Path.Combine(AppContext.BaseDirectory, "agent"), System);
        var file = new FileInfo(Path.Combine(Directory, "umbrek-agent"));
        if (file.Exists)
        {
            var content = File.ReadAllBytes(file.FullName);
            Current = new AgentProgram(OwnVersion, file.FullName, content, Convert.ToHexStringLower(SHA256.HashData(content)));
        }
    }

    public static string OwnVersion { get; } = typeof(AgentPrograms).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion ?? "0";

    public string Directory { get; }

    public AgentProgram? Current { get; }

    /// <exception cref="ProblemException">There is none.</exception>
    public AgentProgram Needed() =>
        Current ?? throw new ProblemException(503, ProblemTypes.Failed, $"The service has no agent to hand out: there is none in {Directory}. Put the agent program there and start the service again.");
}
