using Umbrek.Agent.Platform;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Jobs;

/// <summary>Does with a computer what was wished, and says what came of it. Ends with 0 when the system has taken all of it.</summary>
public sealed class PowerActs(IPowerControl control, TextWriter say)
{
    private const int Done = 0;
    private const int NotDone = 1;

    public int Do(PowerWish wish) => wish.Act switch
    {
        // Said before it is done: behind that nobody may be left to say it.
        PowerAct.Restart => Try("The computer restarts now.", control.Restart, "It can't be restarted"),
        PowerAct.ShutDown => Try("The computer shuts down now.", control.ShutDown, "It can't be shut down"),
        PowerAct.Sleep => Try("The computer goes to sleep now.", control.Sleep, "It can't be put to sleep"),
        PowerAct.LogOut => ForPeople(wish.Person, control.LogOut, "is logged out", "can't be logged out"),
        PowerAct.Lock => ForPeople(wish.Person, control.Lock, "has a locked screen now", "keeps the screen open"),
        _ => Say("This agent does not know what it is to do. Update it.", NotDone),
    };

    private int Try(string announced, Func<string?> act, string failed)
    {
        say.WriteLine(announced);
        say.Flush();
        return act() is { } problem ? Say($"{failed}: {problem}", NotDone) : Done;
    }

    private int ForPeople(string? person, Func<string, string?> act, string done, string failed)
    {
        var there = control.LoggedIn();
        if (person is not null && !there.Contains(person))
        {
            return Say($"{person} is not logged in here.", NotDone);
        }
        if (there.Count == 0)
        {
            return Say("Nobody is logged in here.", Done);
        }
        var status = Done;
        foreach (var one in person is null ? there : [person])
        {
            status = act(one) is { } problem ? Say($"{one} {failed}: {problem}", NotDone) : Math.Max(status, Say($"{one} {done}.", Done));
        }
        return status;
    }

    private int Say(string line, int status)
    {
        say.WriteLine(line);
        return status;
    }
}
