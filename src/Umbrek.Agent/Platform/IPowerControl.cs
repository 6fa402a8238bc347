namespace Umbrek.Agent.Platform;

/// <summary>Turns a host off and on, and ends or locks the sessions of its people. Each answers null when the system has taken the order, else what is in the way.</summary>
public interface IPowerControl
{
    /// <summary>Logons of who is there, each once.</summary>
    IReadOnlyList<string> LoggedIn();

    string? Restart();

    string? ShutDown();

    string? Sleep();

    string? LogOut(string person);

    string? Lock(string person);
}
