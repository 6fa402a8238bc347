namespace Umbrek.Core.Desktop;

/// <summary>The other side does not speak RFB, or says what can't be.</summary>
public sealed class RfbException(string message) : Exception(message);

/// <summary>Numbers of encodings and pseudo-encodings (RFC 6143, 7.7 and 7.8, and the registered ones beside them).</summary>
public static class RfbEncoding
{
    public const int Raw = 0;
    public const int CopyRect = 1;
    public const int Tight = 7;
    public const int Zrle = 16;

    /// <summary>The screen has another size.</summary>
    public const int DesktopSize = -223;
    public const int LastRect = -224;

    /// <summary>Where the pointer is, for who does not move it.</summary>
    public const int PointerPosition = -232;
    public const int Cursor = -239;
    public const int QemuExtendedKeyEvent = -258;
    public const int ExtendedDesktopSize = -308;
    public const int Fence = -312;
    public const int ContinuousUpdates = -313;
    public const int ExtendedClipboard = unchecked((int)0xC0A1E5CE);

    /// <summary>Ten of them, from the worst quality on: a viewer that names one takes pictures in JPEG.</summary>
    public const int WorstQuality = -32;
    public const int BestQuality = -23;
}

/// <summary>Numbers of messages (RFC 6143, 7.5 and 7.6, and the registered ones beside them).</summary>
public static class RfbMessage
{
    public const byte SetPixelFormat = 0;
    public const byte SetEncodings = 2;
    public const byte UpdateRequest = 3;
    public const byte Key = 4;
    public const byte Mouse = 5;
    public const byte ClientCutText = 6;
    public const byte EnableContinuousUpdates = 150;
    public const byte Fence = 248;
    public const byte SetDesktopSize = 251;
    public const byte Qemu = 255;

    public const byte Update = 0;
    public const byte Bell = 2;
    public const byte ServerCutText = 3;
    public const byte EndOfContinuousUpdates = 150;
}

/// <summary>Bits of a fence.</summary>
[Flags]
public enum FenceFlags : uint
{
    None = 0,
    BlockBefore = 1,
    BlockAfter = 2,
    SyncNext = 4,
    Request = 1u << 31,
}
