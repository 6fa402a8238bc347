using System.Buffers;
using System.Diagnostics.CodeAnalysis;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Protocol;
using Microsoft.Extensions.Options;

namespace Umbrek.Service.Links;

/// <summary>
/// SignalR's JSON protocol, but a message whose arguments do not fit ends the connection instead of being answered: who
/// speaks another language is not listened to any further.
/// </summary>
public sealed class StrictJsonProtocol(IOptions<JsonHubProtocolOptions> options) : IHubProtocol
{
    private readonly JsonHubProtocol inner = new(options);

    public string Name => inner.Name;
    public int Version => inner.Version;
    public TransferFormat TransferFormat => inner.TransferFormat;

    public bool IsVersionSupported(int version) => inner.IsVersionSupported(version);

    public ReadOnlyMemory<byte> GetMessageBytes(HubMessage message) => inner.GetMessageBytes(message);

    public void WriteMessage(HubMessage message, IBufferWriter<byte> output) => inner.WriteMessage(message, output);

    public bool TryParseMessage(ref ReadOnlySequence<byte> input, IInvocationBinder binder, [NotNullWhen(true)] out HubMessage? message)
    {
        if (!inner.TryParseMessage(ref input, binder, out message))
        {
            return false;
        }
        if (message is InvocationBindingFailureMessage failure)
        {
            throw new InvalidDataException($"The message '{failure.Target}' is malformed.");
        }
        return true;
    }
}
