using System.Collections;
using System.Runtime.InteropServices;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// Starts a process in a session of its own by posix_spawn (POSIX.1-2017), with every signal at its default: .NET ignores
/// SIGPIPE, and a child that inherited that would not end when its reader goes.
/// </summary>
internal static unsafe class Spawn
{
    /// <param name="stdout">Descriptor for standard output, or -1 for /dev/null.</param>
    /// <param name="stderr">Descriptor for standard error, or -1 for /dev/null.</param>
    /// <returns>0 and the process id, or the error number.</returns>
    public static int Start(string program, IReadOnlyList<string> arguments, string? directory, int stdout, int stderr, out int pid)
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
            _ = Native.ActionsOpen(actions, 0, nothing, Native.OpenReadOnly, 0);
            Redirect(actions, stdout, 1, nothing);
            Redirect(actions, stderr, 2, nothing);
            _ = Native.ActionsCloseFrom(actions, 3);
            if (directory is not null)
            {
                _ = Native.ActionsChangeDirectory(actions, Text(directory));
            }
            _ = Native.SigFillSet(signals);
            _ = Native.AttributesSetSigDefault(attributes, signals);
            _ = Native.SigEmptySet(signals);
            _ = Native.AttributesSetSigMask(attributes, signals);
            _ = Native.AttributesSetFlags(attributes, Native.SpawnSetSid | Native.SpawnSetSigDef | Native.SpawnSetSigMask);

            int started;
            var error = Native.SpawnSearching(&started, Text(program), actions, attributes, Vector(arguments), Vector(EnvironmentLines()));
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

    private static void Redirect(byte* actions, int descriptor, int to, byte* nothing)
    {
        const int openWrite = 1;
        _ = descriptor >= 0 ? Native.ActionsDup2(actions, descriptor, to) : Native.ActionsOpen(actions, to, nothing, openWrite, 0);
    }

    private static List<string> EnvironmentLines() =>
        [.. Environment.GetEnvironmentVariables().Cast<DictionaryEntry>().Select(e => $"{e.Key}={e.Value}")];
}
