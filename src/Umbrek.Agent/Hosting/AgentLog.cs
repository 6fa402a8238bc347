namespace Umbrek.Agent.Hosting;

/// <summary>The agent's log: one line each on the standard error stream, which the system's own log picks up.</summary>
public sealed class AgentLog(TextWriter writer, TimeProvider time)
{
    public void Info(string message) => Write("info", message);

    public void Warning(string message) => Write("warning", message);

    private void Write(string level, string message)
    {
        lock (writer)
        {
            writer.WriteLine($"{time.GetUtcNow():yyyy-MM-ddTHH:mm:ss.fffZ} {level} {message}");
        }
    }
}
