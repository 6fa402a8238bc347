using System.Formats.Tar;
using System.IO.Compression;
using System.Text;
using System.Text.Json;
using Umbrek.Core.Enrolment;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Enrolment;

/// <summary>
/// A Debian binary package (deb(5)): an ar archive of "debian-binary", the control files and the data, both as tar with gzip.
/// It holds the agent, the installer's settings and the unit; installing it lets the agent install itself from there.
/// </summary>
public static class DebPackage
{
    private const string Program = "/usr/lib/umbrek-agent/umbrek-agent";

    public static string FileName(string version) => $"umbrek-agent_{DebVersion(version)}_amd64.deb";

    /// <param name="at">The time stamp of everything inside; the same input gives the same bytes.</param>
    public static byte[] Build(AgentProgram agent, InstallerSettings settings, DateTimeOffset at)
    {
        var control = Pack(at,
            File("control", 0x1A4, $"""
                Package: umbrek-agent
                Version: {DebVersion(agent.Version)}
                Architecture: amd64
                Maintainer: Umbrek <agent@umbrek.example>
                Installed-Size: {agent.Size / 1024}
                Section: admin
                Priority: optional
                Description: keeps this computer reachable for the people who look after it
                 The Umbrek agent, set up for {settings.Service.Authority}.

                """),
            File("conffiles", 0x1A4, UnitFile.SettingsFile + "\n"),
            File("postinst", 0x1ED, $"""
                #!/bin/sh
                set -e
                [ "$1" = configure ] || exit 0
                {Program} install --settings {UnitFile.SettingsFile}

                """),
            File("prerm", 0x1ED, $"""
                #!/bin/sh
                set -e
                [ "$1" = remove ] || exit 0
                {Program} uninstall

                """),
            File("postrm", 0x1ED, $"""
                #!/bin/sh
                set -e
                [ "$1" = purge ] || exit 0
                rm -f {UnitFile.SettingsFile}
                rmdir {Path.GetDirectoryName(UnitFile.SettingsFile)} 2>/dev/null || true

                """));
        var data = Pack(at,
            (Program[1..], 0x1ED, agent.Content),
            (UnitFile.SettingsFile[1..], 0x180, JsonSerializer.SerializeToUtf8Bytes(settings, WireJson.Default.InstallerSettings)),
            File($"lib/systemd/system/{UnitFile.Name}", 0x1A4, UnitFile.Text(UnitFile.DefaultProgramDirectory)));
        using var package = new MemoryStream();
        package.Write("!<arch>\n"u8);
        Member(package, "debian-binary", at, "2.0\n"u8);
        Member(package, "control.tar.gz", at, control);
        Member(package, "data.tar.gz", at, data);
        return package.ToArray();
    }

    private static string DebVersion(string version) => version.Replace('-', '~').Replace('_', '.');

    private static (string Name, int Mode, byte[] Content) File(string name, int mode, string text) => (name, mode, Encoding.UTF8.GetBytes(text.ReplaceLineEndings("\n")));

    private static byte[] Pack(DateTimeOffset at, params (string Name, int Mode, byte[] Content)[] files)
    {
        using var packed = new MemoryStream();
        using (var gzip = new GZipStream(packed, CompressionLevel.Fastest, leaveOpen: true))
        using (var tar = new TarWriter(gzip, TarEntryFormat.Ustar, leaveOpen: true))
        {
            var made = new HashSet<string>(StringComparer.Ordinal);
            foreach (var (name, mode, content) in files)
            {
                for (var cut = name.IndexOf('/'); cut > 0; cut = name.IndexOf('/', cut + 1))
                {
                    if (made.Add(name[..cut]))
                    {
                        tar.WriteEntry(new UstarTarEntry(TarEntryType.Directory, $"./{name[..cut]}/") { Mode = (UnixFileMode)0x1ED, ModificationTime = at, UserName = "root", GroupName = "root" });
                    }
                }
                using var stream = new MemoryStream(content);
                tar.WriteEntry(new UstarTarEntry(TarEntryType.RegularFile, "./" + name) { Mode = (UnixFileMode)mode, ModificationTime = at, UserName = "root", GroupName = "root", DataStream = stream });
            }
        }
        return packed.ToArray();
    }

    /// <summary>One member of an ar archive: a header of 60 characters, the content, and a line feed where its length is odd.</summary>
    private static void Member(MemoryStream archive, string name, DateTimeOffset at, ReadOnlySpan<byte> content)
    {
        archive.Write(Encoding.ASCII.GetBytes($"{name,-16}{at.ToUnixTimeSeconds(),-12}{0,-6}{0,-6}{"100644",-8}{content.Length,-10}`\n"));
        archive.Write(content);
        if (content.Length % 2 != 0)
        {
            archive.WriteByte((byte)'\n');
        }
    }
}
