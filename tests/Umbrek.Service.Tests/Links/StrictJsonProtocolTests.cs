using System.Buffers;
using System.Text;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Protocol;
using Microsoft.Extensions.Options;
using Umbrek.Service.Links;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Tests.Links;

/// <summary>What an agent sends as a message of the hub protocol is read, or ends the connection.</summary>
public sealed class StrictJsonProtocolTests : IInvocationBinder
{
    private readonly StrictJsonProtocol protocol = new(Options.Create(new JsonHubProtocolOptions { PayloadSerializerOptions = new(WireJson.Default.Options) }));

    public IReadOnlyList<Type> GetParameterTypes(string methodName) => methodName == "Goodbye" ? [typeof(LinkGoodbye)] : throw new HubException($"there is no {methodName}");

    public Type GetReturnType(string invocationId) => typeof(HostAnswer);

    public Type GetStreamItemType(string streamId) => typeof(object);

    private HubMessage? Read(string text)
    {
        var bytes = new ReadOnlySequence<byte>(Encoding.UTF8.GetBytes(text));
        return protocol.TryParseMessage(ref bytes, this, out var message) ? message : null;
    }

    [Fact]
    public void A_message_whose_arguments_fit_is_read() =>
        Read("{\"type\":1,\"target\":\"Goodbye\",\"arguments\":[{\"reason\":\"agent-stopped\"}]}\u001e")
            .ShouldBeOfType<InvocationMessage>().Arguments.ShouldHaveSingleItem().ShouldBe(new LinkGoodbye(Umbrek.Core.Estate.AwayReason.AgentStopped));

    [Theory]
    [InlineData("[{\"reason\":\"bored\"}]")]
    [InlineData("[{\"reason\":7}]")]
    [InlineData("[\"agent-stopped\"]")]
    [InlineData("[]")]
    [InlineData("[{\"reason\":\"agent-stopped\"},{}]")]
    public void Arguments_that_do_not_fit_end_the_connection(string arguments) =>
        Should.Throw<InvalidDataException>(() => Read($"{{\"type\":1,\"target\":\"Goodbye\",\"arguments\":{arguments}}}\u001e")).Message.ShouldContain("Goodbye");

    [Fact]
    public void A_message_for_nobody_ends_the_connection() =>
        Should.Throw<InvalidDataException>(() => Read("{\"type\":1,\"target\":\"Shutdown\",\"arguments\":[]}\u001e"));

    [Theory]
    [InlineData("{\"type\":1,\"target\":\"Goodbye\",\"arguments\"\u001e")]
    [InlineData("{\"type\":99}\u001e")]
    [InlineData("not json\u001e")]
    public void What_is_no_message_is_not_taken_for_one(string text)
    {
        HubMessage? read = null;
        try
        {
            read = Read(text);
        }
        catch (InvalidDataException)
        {
            return;
        }
        // A type of a later version of the protocol is passed over.
        read.ShouldBeNull();
    }

    [Fact]
    public void Half_a_message_waits_for_the_rest() => Read("{\"type\":1,\"target\":\"Goodbye\"").ShouldBeNull();
}
