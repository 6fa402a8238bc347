using System.Collections;
using System.Runtime.InteropServices;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What a new process is given.</summary>
internal sealed record SpawnOrder(string Program, IReadOnlyList<string> Arguments)
{
    public string? Directory { get; init; }

    /// <summary>Descriptors for its standard streams; -1 is /dev/null.</summary>
    public int Stdin { get; init; } = -1;
    public int Stdout { get; init; } = -1;
    public int Stderr { get; init; } = -1;

    /// <summary>One more that it has, as descriptor 3; -1 is none.</summary>
    public int Third { get; init; } = -1;

    /// <summary>A terminal for all three of them, which it then has as its own.</summary>
    public string? Terminal { get; init; }

    /// <summary>Lines NAME=VALUE; null gives it the agent's own.</summary>
    public IReadOnlyList<string>? Environment { get; init; }
}

/// <summary>
/// Starts a process in a session of its own by posix_spawn (POSIX.1-2017), with every signal at its default: .NET ignores
/// SIGPIPE, and a child that inherited that would not end when its reader goes.
/// </summary>
internal static unsafe class Spawn
{
    private const int OpenWrite = 1;
    private const int OpenReadWrite = 2;

    /// <returns>0 and the process id, or the error number.</returns>
    public static int Start(string program, IReadOnlyList<string> arguments, string? directory, int stdout, int stderr, out int pid) =>
        Start(new SpawnOrder(program, arguments) { Directory = directory, Stdout = stdout, Stderr = stderr }, out pid);

    /// <returns>0 and the process id, or the error number.</returns>
    public static int Start(SpawnOrder order, out int pid)
    {
        var actions = stackalloc byte[Native.FileActionsSize];
        var attributes = stackalloc byte[Native.AttributesSize];
        var signals = stackalloc byte[Native.SignalSetSize];
        var strings = new List<nint>();
        byte* Text(string s)
        {
            var p = Marshal.StringToCoTaskMemUTF8(s);
            strings.Add(p);
            return (byte*)p;
        }
        byte** Vector(IReadOnlyList<string> items)
        {
            var v = (byte**)Marshal.AllocCoTaskMem((items.Count + 1) * sizeof(byte*));
            strings.Add((nint)v);
            for (var i = 0; i < items.Count; i++)
            {
                v[i] = Text(items[i]);
            }
            v[items.Count] = null;
            return v;
        }

        _ = Native.ActionsInit(actions);
        _ = Native.AttributesInit(attributes);
        try
        {
            var nothing = Text("/dev/null");
            if (order.Terminal is { } terminal)
            {
                // Opened by the leader of a new session, it becomes that session's own.
                _ = Native.ActionsOpen(actions, 0, Text(terminal), OpenReadWrite, 0);
                _ = Native.ActionsDup2(actions, 0, 1);
                _ = Native.ActionsDup2(actions, 0, 2);
            }
            else
            {
                Redirect(actions, order.Stdin, 0, Native.OpenReadOnly, nothing);
                Redirect(actions, order.Stdout, 1, OpenWrite, nothing);
                Redirect(actions, order.Stderr, 2, OpenWrite, nothing);
            }
            if (order.Third >= 0)
            {
                _ = Native.ActionsDup2(actions, order.Third, 3);
            }
            _ = Native.ActionsCloseFrom(actions, order.Third >= 0 ? 4 : 3);
            if (order.Directory is { } directory)
            {
                _ = Native.ActionsChangeDirectory(actions, Text(directory));
            }
            _ = Native.SigFillSet(signals);
            _ = Native.AttributesSetSigDefault(attributes, signals);
            _ = Native.SigEmptySet(signals);
            _ = Native.AttributesSetSigMask(attributes, signals);
            _ = Native.AttributesSetFlags(attributes, Native.SpawnSetSid | Native.SpawnSetSigDef | Native.SpawnSetSigMask);

            int started;
            var error = Native.SpawnSearching(&started, Text(order.Program), actions, attributes, Vector(order.Arguments), Vector(order.Environment ?? EnvironmentLines()));
            pid = error == 0 ? started : 0;
            return error;
        }
        finally
        {
            _ = Native.ActionsDestroy(actions);
            _ = Native.AttributesDestroy(attributes);
            strings.ForEach(Marshal.FreeCoTaskMem);
        }
    }

    private static void Redirect(byte* actions, int descriptor, int to, int flags, byte* nothing) =>
        _ = descriptor >= 0 ? Native.ActionsDup2(actions, descriptor, to) : Native.ActionsOpen(actions, to, nothing, flags, 0);

    /// <summary>The agent's own environment.</summary>
    public static List<string> EnvironmentLines() =>
        [.. Environment.GetEnvironmentVariables().Cast<DictionaryEntry>().Select(e => $"{e.Key}={e.Value}")];
}
