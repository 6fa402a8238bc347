using System.Buffers;
using System.IO.Pipelines;
using System.Net.Sockets;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Connections.Features;
using Microsoft.AspNetCore.Server.Kestrel.Core;

namespace Umbrek.Service.Hosting;

/// <summary>
/// Gives what a connection has to say to the system at once. The web server's own way puts a copy of each record of TLS by, for
/// another task to send: a copy and a change of threads for each 16 KiB, a quarter of what a large file costs.
/// </summary>
/// <param name="aborts">Told of the failure that ended the connection.</param>
public sealed class SocketWriter(Socket socket, Action<ConnectionAbortedException> aborts) : PipeWriter
{
    private readonly ArrayBufferWriter<byte> held = new();
    private bool isOver;

    public override bool CanGetUnflushedBytes => true;

    public override long UnflushedBytes => held.WrittenCount;

    public override void Advance(int bytes) => held.Advance(bytes);

    public override Memory<byte> GetMemory(int sizeHint = 0) => held.GetMemory(sizeHint);

    public override Span<byte> GetSpan(int sizeHint = 0) => held.GetSpan(sizeHint);

    public override ValueTask<FlushResult> FlushAsync(CancellationToken cancellationToken = default) => WriteAsync(default, cancellationToken);

    /// <summary>
    /// Returns when the system has taken all of it. Whoever gives up waiting gives the connection up with it: a record of TLS of
    /// which a part has gone can't be taken back.
    /// </summary>
    public override async ValueTask<FlushResult> WriteAsync(ReadOnlyMemory<byte> source, CancellationToken cancellationToken = default)
    {
        if (held.WrittenCount > 0)
        {
            await SendAsync(held.WrittenMemory, cancellationToken).ConfigureAwait(false);
            held.ResetWrittenCount();
        }
        await SendAsync(source, cancellationToken).ConfigureAwait(false);
        return new FlushResult(isCanceled: false, isCompleted: isOver);
    }

    /// <summary>What waits is the system's already: there is nothing to be woken.</summary>
    public override void CancelPendingFlush()
    {
    }

    /// <summary>The connection closes the socket.</summary>
    public override void Complete(Exception? exception = null) => isOver = true;

    private async ValueTask SendAsync(ReadOnlyMemory<byte> bytes, CancellationToken cancel)
    {
        try
        {
            while (!bytes.IsEmpty && !isOver)
            {
                bytes = bytes[await socket.SendAsync(bytes, SocketFlags.None, cancel).ConfigureAwait(false)..];
            }
        }
        catch (Exception failure) when (failure is SocketException or ObjectDisposedException)
        {
            // As with the web server's own: who writes learns from the connection that it is gone, not from the writing.
            isOver = true;
            aborts(new ConnectionAbortedException("The other side is gone.", failure));
        }
        catch (OperationCanceledException failure)
        {
            isOver = true;
            aborts(new ConnectionAbortedException("Writing was given up half way.", failure));
            throw;
        }
    }
}

public static class SocketWriterExtensions
{
    /// <summary>To be named before TLS, whose records then go straight to the socket.</summary>
    public static void UseSocketWriter(this ListenOptions endpoint) => endpoint.Use(next => async connection =>
    {
        var own = connection.Transport;
        if (connection.Features.Get<IConnectionSocketFeature>() is { Socket: { } socket })
        {
            connection.Transport = new Sides(own.Input, new SocketWriter(socket, connection.Abort));
        }
        try
        {
            await next(connection).ConfigureAwait(false);
        }
        finally
        {
            connection.Transport = own;
        }
    });

    private sealed record Sides(PipeReader Input, PipeWriter Output) : IDuplexPipe;
}
