using System.Security.Cryptography;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Files;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Where a file is written, and with whose help.</summary>
/// <param name="Folder">The folder that it comes to lie in.</param>
/// <param name="Place">Its whole path, all links followed.</param>
internal sealed record SinkPlace(SafeFileHandle Folder, FileName Place, LinuxPlaces Places, LinuxEntries Entries, LinuxTrash Trash, PartLedger Ledger);

/// <summary>
/// A file of a Linux host while it is written: a hidden one beside its place, which takes the place in one step. A small one, which
/// nobody would go on with, has no name until then: the file system has less to do, and nothing is left of it whatever happens.
/// </summary>
internal sealed class LinuxFileSink : IFileSink
{
    /// <summary>Of larger ones the disk is waited for before they take their places.</summary>
    private const long Large = 8 << 20;

    /// <summary>So much is left to the disk at a time, while more comes.</summary>
    private const long FlushEvery = 16 << 20;

    /// <summary>Smaller ones are begun again when their line breaks.</summary>
    private const long Small = 256 << 10;
    private const uint UsualMode = 0x1a4;

    private readonly SinkPlace at;
    private readonly FileWrite write;
    private readonly byte[] name;
    private readonly SafeFileHandle part;

    /// <summary>What it is called, while it is called anything.</summary>
    private (byte[] Name, PartHold Hold)? called;
    private long flushed;

    private LinuxFileSink(SinkPlace at, FileWrite write, SafeFileHandle part, (byte[] Name, PartHold Hold)? called)
    {
        (this.at, this.write, this.part, this.called) = (at, write, part, called);
        name = at.Place.Last().ToBytes();
        Length = flushed = called is null ? 0 : NativeFiles.LookAt(part).Stat.Bytes;
    }

    public FileName Place => at.Place;

    public long Length { get; private set; }

    /// <summary>What a file is called until it is whole; another name for each version.</summary>
    public static byte[] PartName(FileName place, string version)
    {
        // With what is added it is still a name.
        const int most = FileName.MostNameBytes - 32;
        var name = place.Last().ToBytes();
        var mark = Convert.ToHexStringLower(SHA256.HashData([.. place.ToBytes(), 0, .. Encoding.UTF8.GetBytes(version)]).AsSpan(0, 8));
        return [(byte)'.', .. name.AsSpan(0, Math.Min(name.Length, most)), .. Encoding.ASCII.GetBytes($".{mark}.part")];
    }

    public static LinuxFileSink Open(SinkPlace at, FileWrite write)
    {
        if (write is { From: 0, Bytes: <= Small } && NativeFiles.CreateUnnamed(at.Folder) is { } unnamed)
        {
            return new LinuxFileSink(at, write, unnamed, null);
        }
        var partName = PartName(at.Place, write.Version);
        var path = PathOf(at, partName);
        var hold = at.Ledger.Take(path);
        var (part, error) = NativeFiles.OpenToWrite(at.Folder, partName);
        if (part is not null && !IsOwn(part))
        {
            // Somebody else has put something there: it is not written into.
            part.Dispose();
            _ = NativeFiles.Remove(at.Folder, partName, isFolder: false);
            (part, error) = NativeFiles.CreateNew(at.Folder, partName);
        }
        if (part is null)
        {
            at.Ledger.Ended(path);
            hold.Dispose();
            throw at.Places.Trouble(at.Place, error, "written");
        }
        return new LinuxFileSink(at, write, part, (partName, hold));
    }

    private static bool IsOwn(SafeFileHandle part) =>
        NativeFiles.LookAt(part) is { Error: 0 } there && LinuxEntries.KindOf(there.Stat.Mode) == FileKind.File && there.Stat.User == Native.EffectiveUser() && there.Stat.Links == 1;

    /// <summary>Whether what has the name may make room.</summary>
    public static void CheckOld(FileWrite write, FileEntry there)
    {
        if (there.Kind != FileKind.File)
        {
            throw new IOException($"{write.Path} is {LinuxEntries.Words(there.Kind)}; no file is written in its place.");
        }
        if (write.Expects is { } expected && expected != there.Version)
        {
            throw new IOException($"{write.Path} was changed by somebody meanwhile; it is left as it is.");
        }
        if (!write.Replaces)
        {
            throw new IOException($"There is a {write.Path} already; it is left as it is.");
        }
    }

    public void Cut(long length) => Do(() =>
    {
        if (length == Length)
        {
            // A file that is cut to nothing is written to the disk the moment it is closed (ext4(5), auto_da_alloc).
            return;
        }
        Check(NativeFiles.SetLength(part, length));
        (Length, flushed) = (length, Math.Min(flushed, length));
    });

    public int Read(long from, Span<byte> into) => NativeFiles.Read(part, from, into) is >= 0 and var got ? got : throw new IOException($"{at.Place} can't be read again: {Native.LastError()}.");

    public void Write(long to, ReadOnlyMemory<byte> bytes) => Do(() =>
    {
        Check(NativeFiles.Write(part, to, bytes.Span));
        Length = Math.Max(Length, to + bytes.Length);
        if (Length - flushed >= FlushEvery)
        {
            NativeFiles.BeginFlush(part, flushed, Length - flushed);
            flushed = Length;
        }
    });

    public void Skip(long to) => Do(() =>
    {
        Check(NativeFiles.SetLength(part, to));
        Length = to;
    });

    public FileEntry End()
    {
        FileEntry? entry = null;
        Do(() => entry = TakePlace());
        return entry!;
    }

    private FileEntry TakePlace()
    {
        if (Length > Large)
        {
            Check(NativeFiles.Flush(part));
        }
        var old = at.Entries.Find(at.Folder, name);
        if (old is null && write.Expects is not null)
        {
            throw new IOException($"{write.Path} has been taken away by somebody meanwhile; nothing was put in its place.");
        }
        if (old is not null)
        {
            CheckOld(write, old);
        }
        Dress(old);
        if (old is not null)
        {
            Replace(old, called?.Name ?? Call());
        }
        else
        {
            Check(called is { } part ? NativeFiles.Rename(at.Folder, part.Name, at.Folder, name, NativeFiles.NoReplace) : NativeFiles.Name(this.part, at.Folder, name));
        }
        Ended();
        return at.Entries.ToEntry(write.Path.Last(), NativeFiles.LookAt(part).Stat);
    }

    public void Drop() => called?.Hold.TryDo(() =>
    {
        // What changed places with it and could not be put back is somebody's, and stays.
        if (NativeFiles.LookAt(at.Folder, called.Value.Name) is { Error: 0 } there && there.Stat.Inode == NativeFiles.LookAt(part).Stat.Inode)
        {
            _ = NativeFiles.Remove(at.Folder, called.Value.Name, isFolder: false);
        }
        Ended();
    });

    public void Dispose()
    {
        if (Length == 0)
        {
            // Nothing to go on from.
            Drop();
        }
        part.Dispose();
        called?.Hold.Dispose();
        at.Folder.Dispose();
    }

    private static string PathOf(SinkPlace at, byte[] partName) => at.Place.Folder().In(FileName.Of(partName)).Text;

    private void Ended()
    {
        if (called is { } part)
        {
            at.Ledger.Ended(PathOf(at, part.Name));
        }
    }

    /// <summary>Gives a name to what has none: only what has one can change places.</summary>
    private byte[] Call()
    {
        var partName = PartName(at.Place, write.Version);
        called = (partName, at.Ledger.Take(PathOf(at, partName)));
        // Whatever lies there: this transfer has it now.
        _ = NativeFiles.Remove(at.Folder, partName, isFolder: false);
        Check(NativeFiles.Name(part, at.Folder, partName));
        return partName;
    }

    /// <summary>Owner, mode and time, as they are wanted, or as they were of what makes room.</summary>
    private void Dress(FileEntry? old)
    {
        if (old is null)
        {
            LinuxOwner.Inherit(part, at.Folder);
        }
        else if (NativeFiles.LookAt(at.Folder, name) is { Error: 0 } was)
        {
            _ = NativeFiles.SetOwner(part, was.Stat.User, was.Stat.Group);
        }
        var (user, group) = (LinuxOwner.UserOf(write.Owner), LinuxOwner.GroupOf(write.Group));
        if (user != LinuxOwner.AsItIs || group != LinuxOwner.AsItIs)
        {
            Check(NativeFiles.SetOwner(part, user, group));
        }
        Check(NativeFiles.SetMode(part, write.Mode is { } mode ? (uint)mode : old is null ? UsualMode : (uint)old.Mode & 0x1ff));
        if (write.ChangedAt is { } changed)
        {
            Check(NativeFiles.SetChanged(part, changed));
        }
    }

    /// <summary>The two change places in one step, so that what was there meanwhile is seen and comes back.</summary>
    private void Replace(FileEntry old, byte[] partName)
    {
        var error = NativeFiles.Rename(at.Folder, partName, at.Folder, name, NativeFiles.Exchange);
        if (error == NativeFiles.NotPossible)
        {
            // A file system that knows no exchange: what makes room goes first where it is to be kept.
            if (write.KeepsOld && !Keep(name))
            {
                throw Unkept();
            }
            Check(NativeFiles.Rename(at.Folder, partName, at.Folder, name, 0));
            return;
        }
        Check(error);
        if (write.Expects is { } expected && at.Entries.Find(at.Folder, partName)?.Version != expected)
        {
            Check(NativeFiles.Rename(at.Folder, partName, at.Folder, name, NativeFiles.Exchange));
            CheckOld(write, old with { Version = null });
        }
        if (!write.KeepsOld)
        {
            _ = NativeFiles.Remove(at.Folder, partName, isFolder: false);
        }
        else if (!Keep(partName))
        {
            Check(NativeFiles.Rename(at.Folder, partName, at.Folder, name, NativeFiles.Exchange));
            throw Unkept();
        }
    }

    private IOException Unkept() => new($"What {write.Path} is now can't be put into the trash, so it is left as it is. Free some space there, or delete it yourself first.");

    /// <returns>Whether what made room lies in the trash.</returns>
    private bool Keep(byte[] under) => at.Entries.Find(at.Folder, under) is { } old && at.Trash.Take(at.Folder, under, at.Place, old).Error == 0;

    private void Do(Action act)
    {
        if (called is null)
        {
            act();
        }
        else if (!called.Value.Hold.TryDo(act))
        {
            throw new IOException($"{write.Path} is being written by another transfer, which came later.");
        }
    }

    private void Check(int error)
    {
        if (error != 0)
        {
            throw at.Places.Trouble(write.Path, error, "written");
        }
    }
}
