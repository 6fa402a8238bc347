using System.ComponentModel;
using System.Diagnostics;
using System.Globalization;
using System.Runtime.InteropServices;
using Umbrek.Core.Desktop;

namespace Umbrek.Service.Desktop;

/// <summary>No film can be made: why, and what to do.</summary>
public sealed class FilmException(string message) : Exception(message);

/// <summary>Makes a film in WebM (VP9) of a recorded desktop, by the system's ffmpeg.</summary>
internal static class FilmMaker
{
    private const int PerSecond = 10;
    private const string Program = "ffmpeg";

    /// <returns>What is missing for films, and what to do; null where nothing is.</returns>
    public static string? Missing()
    {
        if (!(Environment.GetEnvironmentVariable("PATH") ?? "").Split(':').Any(d => d.Length > 0 && File.Exists(Path.Combine(d, Program))))
        {
            return "A film takes ffmpeg on the service's computer. Install Debian's package ffmpeg there.";
        }
        using var jpeg = TurboJpegReader.TryCreate();
        return jpeg is null ? "A film takes libjpeg-turbo on the service's computer. Install Debian's package libturbojpeg0 there." : null;
    }

    /// <param name="open">Opens the recording; called twice.</param>
    /// <param name="path">The film's file, which is there and empty.</param>
    /// <param name="progress">Told how much is done, 0 to 1.</param>
    /// <exception cref="FilmException">There is none of it.</exception>
    public static async Task MakeAsync(Func<Stream> open, string path, TimeSpan? longestPause, Action<double> progress, CancellationToken cancel)
    {
        try
        {
            TapeLength length;
            await using (var content = open())
            {
                length = await TapeLength.OfAsync(new TapeReader(content), longestPause, cancel).ConfigureAwait(false);
            }
            if (length.Width == 0)
            {
                throw new FilmException("Nothing was shown while it was recorded, so there is no film of it.");
            }
            // Colours are kept for squares of two by two pixels.
            var frame = new ScreenImage((length.Width + 1) & ~1, (length.Height + 1) & ~1);
            using var ffmpeg = Start(frame, path);
            var errors = ffmpeg.StandardError.ReadToEndAsync(cancel);
            try
            {
                await using (var content = open())
                {
                    await DrawAsync(content, frame, ffmpeg.StandardInput.BaseStream, longestPause, at => progress(length.Took > TimeSpan.Zero ? Math.Min(at / length.Took, 1) : 0), cancel).ConfigureAwait(false);
                }
                ffmpeg.StandardInput.Close();
                await ffmpeg.WaitForExitAsync(cancel).ConfigureAwait(false);
            }
            catch (IOException) when (!cancel.IsCancellationRequested)
            {
                // It has ended before its time, and says why.
                await ffmpeg.WaitForExitAsync(cancel).ConfigureAwait(false);
            }
            finally
            {
                if (!ffmpeg.HasExited)
                {
                    ffmpeg.Kill();
                }
            }
            if (ffmpeg.ExitCode != 0)
            {
                throw new FilmException($"ffmpeg made no film: {(await errors.ConfigureAwait(false)).Trim().Split('\n')[^1]}");
            }
        }
        catch (InvalidDataException e)
        {
            throw new FilmException(e.Message);
        }
    }

    private static async Task DrawAsync(Stream content, ScreenImage frame, Stream to, TimeSpan? longestPause, Action<TimeSpan> progress, CancellationToken cancel)
    {
        using var jpeg = TurboJpegReader.TryCreate() ?? throw new FilmException("libjpeg-turbo is gone.");
        var tape = new TapeReader(content);
        await tape.ReadHeaderAsync(cancel).ConfigureAwait(false);
        using var show = new TapeShow(tape, jpeg, longestPause);
        await show.BeginAsync(cancel).ConfigureAwait(false);
        var bytes = new byte[frame.Pixels.Length * sizeof(uint)];
        var count = 0L;
        var isDrawn = false;
        async Task UntilAsync(TimeSpan time)
        {
            while (TimeSpan.FromSeconds((double)count / PerSecond) < time)
            {
                if (!isDrawn)
                {
                    FilmFrame.Draw(show, frame);
                    MemoryMarshal.AsBytes(frame.Pixels.AsSpan()).CopyTo(bytes);
                    isDrawn = true;
                }
                await to.WriteAsync(bytes, cancel).ConfigureAwait(false);
                count++;
                progress(TimeSpan.FromSeconds((double)count / PerSecond));
            }
        }
        var last = TimeSpan.Zero;
        while (show.Next is { } next)
        {
            await UntilAsync(next).ConfigureAwait(false);
            await show.GoOnAsync(cancel).ConfigureAwait(false);
            (isDrawn, last) = (false, next);
        }
        // What stands there at the end is seen for a moment.
        await UntilAsync(last + TimeSpan.FromSeconds(1)).ConfigureAwait(false);
        await to.FlushAsync(cancel).ConfigureAwait(false);
    }

    private static Process Start(ScreenImage frame, string path)
    {
        // Whoever waits for a film waits a little longer, and nobody else does.
        var start = new ProcessStartInfo("nice") { RedirectStandardInput = true, RedirectStandardError = true, RedirectStandardOutput = true };
        string[] arguments =
        [
            "-n", "10", Program, "-hide_banner", "-loglevel", "error", "-f", "rawvideo", "-pixel_format", "bgr0", "-video_size", string.Create(CultureInfo.InvariantCulture, $"{frame.Width}x{frame.Height}"),
            "-framerate", PerSecond.ToString(CultureInfo.InvariantCulture), "-i", "pipe:0",
            "-c:v", "libvpx-vp9", "-deadline", "realtime", "-cpu-used", "8", "-row-mt", "1", "-crf", "30", "-b:v", "0", "-pix_fmt", "yuv420p", "-f", "webm", "-y", path,
        ];
        foreach (var argument in arguments)
        {
            start.ArgumentList.Add(argument);
        }
        try
        {
            var process = Process.Start(start)!;
            process.StandardOutput.Close();
            return process;
        }
        catch (Win32Exception e)
        {
            throw new FilmException($"ffmpeg can't be started: {e.Message}");
        }
    }
}
