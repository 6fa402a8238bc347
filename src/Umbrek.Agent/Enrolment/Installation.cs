using System.Diagnostics;
using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Enrolment;

namespace Umbrek.Agent.Enrolment;

/// <summary>
/// Where an installed agent lies: programs by version, a link to the one that runs, and the script that keeps it running.
/// Replacing the link is what replaces the program, in one step.
/// </summary>
/// <param name="Directory">Of the programs.</param>
/// <param name="KeptBy">What starts it: "systemd", "init script", or "nothing".</param>
public sealed record Installation(string Directory, string KeptBy)
{
    public string Program => Path.Combine(Directory, "umbrek-agent");
    public string Launch => Path.Combine(Directory, UnitFile.LaunchName);
    public string Versions => Path.Combine(Directory, "versions");

    /// <summary>There while a new program has yet to prove itself: the version before it, and how often it was started.</summary>
    public string TrialFile => Path.Combine(Directory, "trial");

    /// <summary>There after a new program was taken back: why.</summary>
    public string WentBackFile => Path.Combine(Directory, "went-back");

    /// <summary>The file name, below <see cref="Versions"/>, of the program that runs.</summary>
    public string CurrentVersion => Path.GetFileName(new FileInfo(Program).LinkTarget ?? "");

    public static Installation? Load(StateDirectory state)
    {
        try
        {
            return File.Exists(state.InstallationFile) ? JsonSerializer.Deserialize(File.ReadAllBytes(state.InstallationFile), AgentJson.Default.Installation) : null;
        }
        catch (JsonException e)
        {
            throw new InvalidDataException($"{state.InstallationFile} is damaged ({e.Message}). Install the agent again over it.", e);
        }
    }

    public void Save(StateDirectory state) => StateDirectory.WriteWhole(state.InstallationFile, this, AgentJson.Default.Installation);

    /// <summary>Puts a program among the versions; what is there already is left alone.</summary>
    /// <returns>Its file name there.</returns>
    /// <exception cref="IOException">There is no room, no right to write, or the program can't be run from there; the message says so.</exception>
    public string Place(string program, string version)
    {
        try
        {
            System.IO.Directory.CreateDirectory(Versions);
            using var source = File.OpenRead(program);
            var name = $"{version}-{Convert.ToHexStringLower(SHA256.HashData(source))[..8]}";
            var target = Path.Combine(Versions, name);
            if (!File.Exists(target))
            {
                source.Position = 0;
                var making = target + ".new";
                File.Delete(making);
                using (var copy = OwnerOnly.CreateFile(making))
                {
                    source.CopyTo(copy);
                    copy.Flush(flushToDisk: true);
                }
                OwnerOnly.MakeProgram(making);
                File.Move(making, target);
            }
            if (!CanRun(target))
            {
                throw new IOException("the program can't be run from there (is it mounted noexec?)");
            }
            return name;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new IOException($"The agent can't be put into {Directory}: {e.Message.TrimEnd('.')}.", e);
        }
    }

    /// <summary>Makes a version the one that runs at the next start; one step, either the old or the new.</summary>
    public void PointTo(string versionName)
    {
        var making = Program + ".new";
        File.Delete(making);
        File.CreateSymbolicLink(making, Path.Combine("versions", versionName));
        File.Move(making, Program, overwrite: true);
    }

    private static bool CanRun(string program)
    {
        // ETXTBSY (execve(2)): another child that is being started holds what this process had open when it was, for a moment.
        const int beingWritten = 26;
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                using var process = Process.Start(new ProcessStartInfo(program, ["--version"]) { RedirectStandardOutput = true, RedirectStandardError = true })!;
                process.WaitForExit();
                return process.ExitCode == 0;
            }
            catch (System.ComponentModel.Win32Exception e) when (e.NativeErrorCode == beingWritten && attempt < 40)
            {
                Thread.Sleep(50);
            }
            catch (System.ComponentModel.Win32Exception)
            {
                return false;
            }
        }
    }
}
