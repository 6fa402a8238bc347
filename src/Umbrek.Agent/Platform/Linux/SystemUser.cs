using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>A user of the system (passwd(5)).</summary>
internal sealed record SystemUser(string Name, uint Id, uint GroupId, string Home, string Shell)
{
    /// <summary>The one that the agent runs as.</summary>
    public static SystemUser Own() => Native.FindUser(Native.EffectiveUser()) ?? new SystemUser($"{Native.EffectiveUser()}", Native.EffectiveUser(), 0, "/", "/bin/sh");

    /// <summary>The one that something is to run as.</summary>
    /// <param name="name">Null means the agent's own.</param>
    /// <exception cref="CommandNotStartedException">There is none, or the agent can't act as that.</exception>
    public static SystemUser Find(string? name)
    {
        var own = Own();
        if (name is null || name == own.Name)
        {
            return own;
        }
        if (!SystemUserName.IsOne(name))
        {
            throw new CommandNotStartedException(SystemUserName.Problem(name), 126);
        }
        var found = Native.FindUser(name) ?? throw new CommandNotStartedException($"There is no user '{name}' on this host; nothing was run.", 126);
        return own.Id == 0 || found.Id == own.Id
            ? found
            : throw new CommandNotStartedException($"The agent runs as {own.Name} on this host and can't act as {name}; nothing was run.", 126);
    }

    /// <summary>Program and arguments by which the agent runs something as this user: posix_spawn can't change it, setpriv(1) does.</summary>
    public (string Program, IReadOnlyList<string> Arguments) Run(string program, IReadOnlyList<string> arguments) =>
        Id == Native.EffectiveUser()
            ? (program, arguments)
            : ("setpriv", ["setpriv", $"--reuid={Id}", $"--regid={GroupId}", "--init-groups", "--", program, .. arguments.Skip(1)]);

    /// <summary>What a fresh login has in its environment (login(1)), and a terminal's name.</summary>
    public List<string> LoginEnvironment(string? terminalType)
    {
        var path = Id == 0 ? "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin" : "/usr/local/bin:/usr/bin:/bin:/usr/local/games:/usr/games";
        var language = Environment.GetEnvironmentVariable("LANG") is { Length: > 0 } set ? set : "C.UTF-8";
        List<string> lines = [$"HOME={Home}", $"USER={Name}", $"LOGNAME={Name}", $"SHELL={Shell}", $"PATH={path}", $"LANG={language}"];
        if (terminalType is not null)
        {
            lines.Add($"TERM={terminalType}");
            lines.Add("COLORTERM=truecolor");
        }
        return lines;
    }
}
