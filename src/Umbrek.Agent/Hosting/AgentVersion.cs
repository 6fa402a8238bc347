using System.Reflection;

namespace Umbrek.Agent.Hosting;

public static class AgentVersion
{
    public static string Text { get; } = typeof(AgentVersion).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion ?? "0";
}
