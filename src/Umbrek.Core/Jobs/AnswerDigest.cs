using System.Buffers;
using System.IO.Hashing;
using System.Security.Cryptography;

namespace Umbrek.Core.Jobs;

/// <summary>What tells one answer from another, and how long it is.</summary>
/// <param name="Like">Of what counts; equal for answers that differ only in what is passed over. By SHA-256 (FIPS 180-4): a host that wants to can't hide a strange answer among the ordinary ones.</param>
/// <param name="Exact">Of every byte, for counting variants; nothing else hangs on it.</param>
/// <param name="Lines">Of both streams together; a last one without an end counts.</param>
public sealed record AnswerMark(string Like, string Exact, long Lines, long Bytes);

/// <summary>
/// Reads answers piece by piece, one after the other, and marks them.
/// </summary>
public sealed class AnswerDigest(AnswerMask mask) : IDisposable
{
    /// <summary>Longer lines are cut for masking, at the same place on every host.</summary>
    private const int LongestLine = 32 * 1024;

    private readonly StreamDigest stdout = new(mask);
    private readonly StreamDigest stderr = new(mask);

    /// <summary>Begins the next answer.</summary>
    /// <param name="ownNames">What its host is called.</param>
    public void Begin(IReadOnlyList<string> ownNames)
    {
        var masker = mask == AnswerMask.None ? null : new LineMasker(mask, ownNames);
        stdout.Begin(masker);
        stderr.Begin(masker);
    }

    /// <param name="stream">Stdout or stderr.</param>
    public void Add(RunEventKind stream, ReadOnlySpan<byte> data) => (stream == RunEventKind.Stderr ? stderr : stdout).Add(data);

    public AnswerMark End()
    {
        Span<byte> like = stackalloc byte[64];
        Span<byte> exact = stackalloc byte[32];
        stdout.End(like, exact);
        stderr.End(like[32..], exact[16..]);
        var counts = Convert.ToHexStringLower(SHA256.HashData(like));
        return new AnswerMark(counts, mask == AnswerMask.None ? counts : Convert.ToHexStringLower(exact), stdout.Lines + stderr.Lines, stdout.Bytes + stderr.Bytes);
    }

    public void Dispose()
    {
        stdout.Dispose();
        stderr.Dispose();
    }

    private sealed class StreamDigest(AnswerMask mask) : IDisposable
    {
        private readonly XxHash128 exact = new();
        private readonly IncrementalHash like = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        private readonly ArrayBufferWriter<byte> line = new(mask == AnswerMask.None ? 1 : 256);
        private readonly byte[] masked = mask == AnswerMask.None ? [] : new byte[2 * LineMasker.Most(LongestLine)];
        private LineMasker? masker;
        private int filled;
        private bool open;

        public long Lines { get; private set; }
        public long Bytes { get; private set; }

        public void Begin(LineMasker? with)
        {
            masker = with;
            line.ResetWrittenCount();
            filled = 0;
            open = false;
            Lines = Bytes = 0;
        }

        public void Add(ReadOnlySpan<byte> data)
        {
            Bytes += data.Length;
            if (masker is null)
            {
                like.AppendData(data);
            }
            else
            {
                exact.Append(data);
            }
            while (!data.IsEmpty)
            {
                var end = data.IndexOf((byte)'\n');
                var part = end < 0 ? data : data[..end];
                data = data[(end < 0 ? data.Length : end + 1)..];
                open = end < 0;
                if (!open)
                {
                    Lines++;
                }
                if (masker is null)
                {
                    continue;
                }
                while (line.WrittenCount + part.Length > LongestLine)
                {
                    var fits = LongestLine - line.WrittenCount;
                    line.Write(part[..fits]);
                    part = part[fits..];
                    Take(line.WrittenSpan, ended: false);
                    line.ResetWrittenCount();
                }
                if (open)
                {
                    line.Write(part);
                }
                else if (line.WrittenCount == 0)
                {
                    Take(part, ended: true);
                }
                else
                {
                    line.Write(part);
                    Take(line.WrittenSpan, ended: true);
                    line.ResetWrittenCount();
                }
            }
        }

        public void End(Span<byte> likeHash, Span<byte> exactHash)
        {
            if (open)
            {
                Lines++;
                if (masker is not null)
                {
                    // Whether the last line has an end is passed over as well.
                    Take(line.WrittenSpan, ended: true);
                }
            }
            like.AppendData(masked.AsSpan(0, filled));
            _ = like.GetHashAndReset(likeHash);
            _ = exact.GetHashAndReset(exactHash);
        }

        private void Take(ReadOnlySpan<byte> whole, bool ended)
        {
            if (masked.Length - filled < LineMasker.Most(whole.Length) + 1)
            {
                like.AppendData(masked.AsSpan(0, filled));
                filled = 0;
            }
            filled += masker!.Mask(whole, masked.AsSpan(filled));
            if (ended)
            {
                masked[filled++] = (byte)'\n';
            }
        }

        public void Dispose() => like.Dispose();
    }
}
