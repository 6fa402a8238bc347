namespace Umbrek.Core.Estate;

/// <summary>
/// The colour and the emblem of a customer: they stand on every screen, header and confirmation about its computers. Both are
/// words; how they look is the business of whoever draws them. Without a choice the name decides, always the same way.
/// </summary>
public static class CustomerMark
{
    /// <summary>Colours that stay apart from each other, from the accent, and from the colours of trouble.</summary>
    public static readonly IReadOnlyList<string> Colours = ["lagoon", "moss", "harbour", "heather", "driftwood", "kelp", "thistle", "fern", "offing", "rosehip"];

    /// <summary>Simple divisions of a flag.</summary>
    public static readonly IReadOnlyList<string> Emblems = ["halves", "bands", "quarters", "cross", "saltire", "border", "disc"];
}
