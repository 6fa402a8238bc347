using Umbrek.Cli.Hosting;
using Umbrek.Core.Desktop;
using Umbrek.Core.Text;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Desktop;

/// <summary>A file of this computer into which a desktop is recorded: of one viewer at a time, one after the other.</summary>
internal sealed class LocalTape : IDisposable
{
    private readonly string path;
    private readonly FileStream file;
    private readonly TimeProvider time;
    private readonly long began;
    private readonly TapeScribe scribe;
    private int taken;

    private LocalTape(string path, FileStream file, HostSummary host, TimeProvider time)
    {
        (this.path, this.file, this.time) = (path, file, time);
        began = time.GetTimestamp();
        scribe = new TapeScribe(keys: false, entry => file.Write(entry.Span));
        scribe.Begin(new TapeHeader(time.GetUtcNow(), $"{host.Label} in {host.GroupPath}", Control: false));
    }

    /// <summary>What became of it, for whoever made it.</summary>
    public string Said => $"{path}: {Units.Bytes(file.Length)} recorded.";

    /// <exception cref="ClientException">It can't be written, or is there already.</exception>
    public static LocalTape Create(string path, HostSummary host, TimeProvider time)
    {
        try
        {
            return new LocalTape(path, new FileStream(path, FileMode.CreateNew, FileAccess.Write, FileShare.Read, bufferSize: 0), host, time);
        }
        catch (IOException) when (File.Exists(path))
        {
            throw new ClientException($"{path} is there already; name another file, or remove that one first.");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ClientException($"The recording can't be written to {path}: {e.Message}");
        }
    }

    /// <returns>The line, with what goes over it recorded; null as long as another is.</returns>
    public TappedStream? Take(DesktopStream line)
    {
        if (Interlocked.Exchange(ref taken, 1) == 1)
        {
            return null;
        }
        lock (scribe)
        {
            scribe.Opened(Since, line.Opened.Screen, line.Opened.Person, line.Opened.Control);
        }
        return new TappedStream(this, line);
    }

    public void Dispose() => file.Dispose();

    private TimeSpan Since => time.GetElapsedTime(began);

    /// <summary>A line whose words are written down before they go on.</summary>
    internal sealed class TappedStream(LocalTape tape, DesktopStream line) : LineStream
    {
        public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
        {
            var got = await line.ReadAsync(buffer, cancellationToken).ConfigureAwait(false);
            lock (tape.scribe)
            {
                tape.scribe.HostSays(tape.Since, buffer.Span[..got]);
            }
            return got;
        }

        public override ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default)
        {
            lock (tape.scribe)
            {
                tape.scribe.ViewerSays(tape.Since, buffer.Span);
            }
            return line.WriteAsync(buffer, cancellationToken);
        }

        public override ValueTask DisposeAsync()
        {
            Interlocked.Exchange(ref tape.taken, 0);
            return base.DisposeAsync();
        }
    }
}
