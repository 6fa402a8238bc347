using System.Buffers.Binary;
using System.Text;
using Umbrek.Agent.Hosting;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>What lets one in at an X server (Xsecurity(7)): entries of family, address, display number, method and data, each with its length in two bytes.</summary>
internal static class XAuthority
{
    private const string Method = "MIT-MAGIC-COOKIE-1";
    private const int MostBytes = 1024 * 1024;

    /// <returns>The cookie for a display of this host; null where the file has none or can't be read.</returns>
    public static byte[]? Find(string file, string number)
    {
        byte[] data;
        try
        {
            if (new FileInfo(file).Length > MostBytes)
            {
                return null;
            }
            data = File.ReadAllBytes(file);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
        return Find(data, number);
    }

    public static byte[]? Find(ReadOnlySpan<byte> data, string number)
    {
        byte[]? any = null;
        while (data.Length >= 2)
        {
            data = data[2..];
            if (!Field(ref data, out _) || !Field(ref data, out var display) || !Field(ref data, out var method) || !Field(ref data, out var cookie))
            {
                break;
            }
            if (Encoding.ASCII.GetString(method) != Method)
            {
                continue;
            }
            var of = Encoding.ASCII.GetString(display);
            if (of == number)
            {
                return cookie.ToArray();
            }
            any = of.Length == 0 ? cookie.ToArray() : any;
        }
        return any;
    }

    /// <summary>Writes a new file, for its owner alone, that lets one in at whichever display reads it: of any address (FamilyWild), with any number.</summary>
    public static void Write(string file, ReadOnlySpan<byte> cookie)
    {
        using var to = OwnerOnly.CreateFile(file);
        to.Write([0xFF, 0xFF, 0, 0, 0, 0]);
        Write(to, Encoding.ASCII.GetBytes(Method));
        Write(to, cookie);
    }

    private static void Write(Stream to, ReadOnlySpan<byte> field)
    {
        Span<byte> length = stackalloc byte[2];
        BinaryPrimitives.WriteUInt16BigEndian(length, (ushort)field.Length);
        to.Write(length);
        to.Write(field);
    }

    private static bool Field(ref ReadOnlySpan<byte> data, out ReadOnlySpan<byte> field)
    {
        field = default;
        if (data.Length < 2)
        {
            return false;
        }
        var length = BinaryPrimitives.ReadUInt16BigEndian(data);
        if (data.Length < 2 + length)
        {
            return false;
        }
        field = data.Slice(2, length);
        data = data[(2 + length)..];
        return true;
    }
}
