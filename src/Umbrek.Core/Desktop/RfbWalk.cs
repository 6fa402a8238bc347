using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Core.Desktop;

/// <summary>
/// Walks along what a server of RFB (RFC 6143) says, in pieces as they come, and tells pictures from all the rest, without unpacking any.
/// Pixels are in <see cref="PixelFormat.Usual"/>.
/// </summary>
public sealed class RfbWalk
{
    private const int MostHead = 4096;

    private readonly IEnumerator<Step> steps;
    private readonly byte[] head = new byte[MostHead];
    private Step step;
    private long done;
    private bool isPicture;

    /// <summary>What comes next: so many bytes, to be looked at or to be passed over.</summary>
    private readonly record struct Step(long Length, bool IsHead, bool IsKind = false);

    /// <param name="minor">Of the version that both speak: 3, 7 or 8 (RFC 6143, 7.1.1 and appendix A).</param>
    public RfbWalk(int minor)
    {
        steps = Walk(minor).GetEnumerator();
        Next();
    }

    /// <summary>Both have agreed how to speak; what follows are messages.</summary>
    public bool HasBegun { get; private set; }

    public int Width { get; private set; }
    public int Height { get; private set; }
    public string Name { get; private set; } = "";

    /// <summary>Bytes of texts of the host's clipboard that came, packed as they came.</summary>
    public long ClipboardBytes { get; private set; }

    /// <param name="pictures">Gets the parts of it that belong to updates of the picture.</param>
    /// <exception cref="RfbException">It is no RFB.</exception>
    public void Walk(ReadOnlySpan<byte> bytes, List<Range> pictures)
    {
        var at = 0;
        while (at < bytes.Length)
        {
            var part = (int)Math.Min(step.Length - done, bytes.Length - at);
            if (step.IsHead)
            {
                bytes.Slice(at, part).CopyTo(head.AsSpan((int)done));
            }
            if (step.IsKind)
            {
                isPicture = bytes[at] == RfbMessage.Update;
            }
            if (isPicture)
            {
                Keep(pictures, at, part);
            }
            at += part;
            done += part;
            while (done == step.Length)
            {
                Next();
            }
        }
    }

    private static void Keep(List<Range> pictures, int at, int length)
    {
        if (pictures.Count > 0 && pictures[^1].End.Value == at)
        {
            pictures[^1] = pictures[^1].Start..(at + length);
        }
        else
        {
            pictures.Add(at..(at + length));
        }
    }

    private void Next()
    {
        steps.MoveNext();
        (step, done) = (steps.Current, 0);
    }

    private static Step Head(int length) => new(length, IsHead: true);

    private static Step Over(long length) => new(length, IsHead: false);

    private IEnumerable<Step> Walk(int minor)
    {
        yield return Head(12);
        if (minor >= 7)
        {
            yield return Head(1);
            if (head[0] == 0)
            {
                throw new RfbException("the host refuses");
            }
            yield return Over(head[0]);
        }
        if (minor != 7)
        {
            yield return Head(4);
            if (U32(0) != (minor == 3 ? 1u : 0u))
            {
                throw new RfbException("the host refuses");
            }
        }
        yield return Head(24);
        (Width, Height) = (U16(0), U16(2));
        if (!ScreenImage.IsPossible(Width, Height) || U32(20) > MostHead)
        {
            throw new RfbException($"a screen of {Width} x {Height}");
        }
        yield return Head((int)U32(20));
        Name = Encoding.UTF8.GetString(head, 0, (int)step.Length);
        HasBegun = true;
        while (true)
        {
            yield return new Step(1, IsHead: true, IsKind: true);
            switch (head[0])
            {
                case RfbMessage.Update:
                    foreach (var part in Update())
                    {
                        yield return part;
                    }
                    break;
                case RfbMessage.Bell or RfbMessage.EndOfContinuousUpdates:
                    break;
                case RfbMessage.ServerCutText:
                    foreach (var part in CutText())
                    {
                        yield return part;
                    }
                    break;
                case RfbMessage.Fence:
                    yield return Head(8);
                    yield return Over(head[7]);
                    break;
                case var kind:
                    throw new RfbException($"the host says something of kind {kind}, which there is none of");
            }
        }
    }

    private IEnumerable<Step> Update()
    {
        yield return Head(3);
        var count = U16(1);
        for (var i = 0; i < count; i++)
        {
            yield return Head(RfbWriter.RectHeader);
            var (pixels, encoding, width, height) = ((long)U16(4) * U16(6), (int)U32(8), U16(4), U16(6));
            switch (encoding)
            {
                case RfbEncoding.LastRect:
                    yield break;
                case RfbEncoding.Raw:
                    yield return Over(4 * pixels);
                    break;
                case RfbEncoding.CopyRect:
                    yield return Over(4);
                    break;
                case RfbEncoding.Zrle:
                    yield return Head(4);
                    yield return Over(U32(0));
                    break;
                case RfbEncoding.Tight:
                    foreach (var part in Tight())
                    {
                        yield return part;
                    }
                    break;
                case RfbEncoding.Cursor:
                    yield return Over(4 * pixels + (long)((width + 7) / 8) * height);
                    break;
                case RfbEncoding.ExtendedDesktopSize:
                    // As x the reason is given, as y how a wish was answered.
                    if (U16(0) != 1 || U16(2) == 0)
                    {
                        (Width, Height) = (width, height);
                    }
                    yield return Head(4);
                    yield return Over(RfbScreen.Length * head[0]);
                    break;
                case RfbEncoding.DesktopSize:
                    (Width, Height) = (width, height);
                    break;
                case RfbEncoding.PointerPosition or RfbEncoding.QemuExtendedKeyEvent:
                    break;
                default:
                    throw new RfbException($"a rectangle is of encoding {encoding}, which is not known here");
            }
        }
    }

    private IEnumerable<Step> Tight()
    {
        yield return Head(1);
        switch (head[0] >> 4)
        {
            case 8:
                yield return Over(3);
                break;
            case 9:
                var length = 0;
                for (var shift = 0; shift < 21; shift += 7)
                {
                    yield return Head(1);
                    length |= (shift == 14 ? head[0] : head[0] & 127) << shift;
                    if (head[0] < 128)
                    {
                        break;
                    }
                }
                yield return Over(length);
                break;
            default:
                throw new RfbException($"a rectangle is packed in the way {head[0]:x2}, which is not known here");
        }
    }

    private IEnumerable<Step> CutText()
    {
        yield return Head(7);
        var length = (int)U32(3);
        if (length >= 0)
        {
            ClipboardBytes += length;
            yield return Over(length);
            yield break;
        }
        if (length is > -4 or < -RfbClientReader.MostText)
        {
            throw new RfbException("a message about the clipboard is cut off, or too long");
        }
        yield return Head(4);
        if ((U32(0) & (uint)ClipboardAct.Provide) != 0)
        {
            ClipboardBytes += -length - 4;
        }
        yield return Over(-length - 4);
    }

    private int U16(int at) => BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(at));

    private uint U32(int at) => BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(at));
}
