using Umbrek.Core.Files.Twins;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

/// <summary>How far a turn is. Told from several threads, and asked from others.</summary>
public sealed class TurnProgress(string by, NewTurn wish, DateTimeOffset beganAt)
{
    private readonly Lock guard = new();
    private TurnState state = TurnState.Looking;
    private string? reason;
    private long acts;
    private long actsDone;
    private long bytes;
    private long bytesDone;
    private long bytesMoved;
    private long same;
    private long conflicts;
    private long problems;

    /// <summary>Files came that are long so much together, in whole or in part: by the line, or from what was there.</summary>
    public void Came(long more)
    {
        lock (guard)
        {
            bytesDone += more;
        }
    }

    /// <summary>So much went over a line.</summary>
    public void Moved(long more)
    {
        lock (guard)
        {
            bytesMoved += more;
        }
    }

    public void Planned(IEnumerable<TwinAct> planned, long inStep)
    {
        lock (guard)
        {
            same = inStep;
            (conflicts, bytes, bytesDone) = (0, 0, 0);
            acts = actsDone;
            problems = 0;
            foreach (var act in planned)
            {
                acts += act.IsFinish || act.Deed is TwinDeed.Conflict or TwinDeed.Left ? 0 : 1;
                conflicts += act.Deed == TwinDeed.Conflict ? 1 : 0;
                bytes += act.Deed == TwinDeed.File ? act.From!.Bytes : 0;
            }
        }
    }

    public void Did(bool isDone)
    {
        lock (guard)
        {
            (actsDone, problems) = isDone ? (actsDone + 1, problems) : (actsDone, problems + 1);
        }
    }

    public void Is(TurnState now, string? why = null)
    {
        lock (guard)
        {
            (state, reason) = (now, why);
        }
    }

    public TurnInfo ToInfo()
    {
        lock (guard)
        {
            return new TurnInfo(state, by, beganAt, null, wish.DryRun, acts, actsDone, bytes, Math.Min(bytes, bytesDone), bytesMoved, same, conflicts, problems, reason);
        }
    }
}
