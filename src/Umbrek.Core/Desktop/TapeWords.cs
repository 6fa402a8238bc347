using Umbrek.Core.Text;

namespace Umbrek.Core.Desktop;

/// <summary>What entries of a recorded screen tell, in words.</summary>
public static class TapeWords
{
    /// <returns>Null for what is seen anyway: the picture, the pointer, single keys.</returns>
    public static string? Of(TapeEntry entry) => entry.Kind switch
    {
        TapeKinds.Opened => $"screen {entry.Text("screen")}, {(entry.Text("person") is { } person ? $"of {person}" : "nobody logged in")}",
        TapeKinds.Gone => $"the screen is gone: {entry.Text("why")}",
        TapeKinds.Typing => "something is typed",
        TapeKinds.Clipboard => $"{(entry.Text("from") == "host" ? "the host\u2019s clipboard came" : "a text went to the host\u2019s clipboard")}, {Units.Bytes(entry.Number("bytes") ?? 0)}",
        TapeKinds.Input => entry.IsSet("taken") ? "the keyboards of the host are taken" : "the keyboards of the host are given back",
        TapeKinds.Secret => $"a secret is typed, unseen: {entry.Text("name")}",
        TapeKinds.Mark => entry.Text("text"),
        _ => null,
    };
}
