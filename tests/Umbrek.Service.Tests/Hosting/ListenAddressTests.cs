using Umbrek.Service.Hosting;

namespace Umbrek.Service.Tests.Hosting;

public sealed class ListenAddressTests
{
    [Theory]
    [InlineData("127.0.0.1:8443", "https://localhost:8443")]
    [InlineData("[::]:8443", "https://[::]:8443")]
    [InlineData("http://127.0.0.1:8080", "http://localhost:8080")]
    [InlineData("https://192.0.2.1:443", "https://192.0.2.1:443")]
    public void Addresses_are_read(string text, string expected) => ListenAddress.Parse(text).ToString().ShouldBe(expected);

    [Theory]
    [InlineData("http://0.0.0.0:8080", "this machine itself only")]
    [InlineData("8443", "no address to listen on")]
    [InlineData("care.halyard.example:8443", "no IP address")]
    [InlineData("127.0.0.1:99999", "no address to listen on")]
    public void What_must_not_be_listened_on_is_refused_with_a_reason(string text, string word) =>
        Should.Throw<FormatException>(() => ListenAddress.Parse(text)).Message.ShouldContain(word);
}
