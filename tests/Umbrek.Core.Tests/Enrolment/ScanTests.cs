using System.Text;
using Umbrek.Core.Enrolment;

namespace Umbrek.Core.Tests.Enrolment;

public sealed class ScanTests
{
    [Theory]
    [InlineData("198.51.100.0/24", "198.51.100.1", "198.51.100.254", 254)]
    [InlineData("198.51.100.77/24", "198.51.100.1", "198.51.100.254", 254)]
    [InlineData("198.51.100.8/31", "198.51.100.8", "198.51.100.9", 2)]
    [InlineData("198.51.100.8/32", "198.51.100.8", "198.51.100.8", 1)]
    [InlineData("198.51.100.10-20", "198.51.100.10", "198.51.100.20", 11)]
    [InlineData(" 198.51.100.250 - 198.51.101.5 ", "198.51.100.250", "198.51.101.5", 12)]
    [InlineData("198.51.100.7", "198.51.100.7", "198.51.100.7", 1)]
    [InlineData("10.0.0.0/20", "10.0.0.1", "10.0.15.254", 4094)]
    [InlineData("255.255.255.254-255.255.255.255", "255.255.255.254", "255.255.255.255", 2)]
    public void Ranges_are_read_in_every_form(string text, string first, string last, int count)
    {
        var range = AddressRange.Parse(text, out _).ShouldNotBeNull();
        range.Count.ShouldBe(count);
        range.Addresses().First().ShouldBe(first);
        range.Addresses().Last().ShouldBe(last);
        range.Addresses().Count().ShouldBe(count);
    }

    [Theory]
    [InlineData("10.0.0.0/19", "4096")]
    [InlineData("0.0.0.0/0", "4096")]
    [InlineData("0.0.0.0-255.255.255.255", "4096")]
    [InlineData("198.51.100.20-10", "before it begins")]
    [InlineData("2001:db8::/64", "IPv6")]
    [InlineData("198.51.100", "no range")]
    [InlineData("198.51.100.0/33", "no range")]
    [InlineData("198.51.100.256", "no range")]
    [InlineData("198.51.100.1/+8", "no range")]
    [InlineData("quay-ticket-01", "no range")]
    [InlineData("", "no range")]
    public void What_is_too_large_or_no_range_is_refused_in_a_sentence(string text, string word)
    {
        AddressRange.Parse(text, out var problem).ShouldBeNull();
        problem.ShouldContain(word);
    }

    [Fact]
    public void A_multicast_question_asks_for_the_reverse_name_and_its_answer_is_read_with_pointers()
    {
        var question = MdnsMessage.Question("198.51.100.7");
        Encoding.ASCII.GetString(question).ShouldContain("in-addr");
        MdnsMessage.ReadAnswer(question).ShouldBeNull();
        byte[] answer = [0, 0, 0x84, 0, 0, 1, 0, 1, 0, 0, 0, 0, .. question[12..], 0xC0, 12, 0, 12, 0, 1, 0, 0, 0, 120, 0, 14, 6, .. "camera"u8, 5, .. "local"u8, 0];
        MdnsMessage.ReadAnswer(answer).ShouldBe(("198.51.100.7", "camera.local"));
    }

    [Fact]
    public void Malformed_answers_are_no_answers_and_pointers_in_circles_end()
    {
        byte[] circle = [0, 0, 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0xC0, 12, 0, 12, 0, 1, 0, 0, 0, 1, 0, 2, 0xC0, 12];
        MdnsMessage.ReadAnswer(circle).ShouldBeNull();
        var random = new Random(7);
        for (var i = 0; i < 20_000; i++)
        {
            var noise = new byte[random.Next(60)];
            random.NextBytes(noise);
            if (noise.Length > 2)
            {
                noise[2] |= 0x80;
            }
            _ = MdnsMessage.ReadAnswer(noise);
        }
    }

    [Fact]
    public void Makers_are_found_by_the_first_three_bytes_however_the_address_is_written()
    {
        var prefixes = new HardwarePrefixes(["OUI/MA-L   Organization", "00-00-5E   (hex)\t\tICANN, IANA Department", "00005E     (base 16)\t\tICANN, IANA Department", "", "zz-zz-zz (hex) broken"]);
        prefixes.Count.ShouldBe(1);
        prefixes.Find("00:00:5e:00:53:07").ShouldBe("ICANN, IANA Department");
        prefixes.Find("00-00-5E-00-53-07").ShouldBe("ICANN, IANA Department");
        prefixes.Find("02:00:00:00:00:01").ShouldBeNull();
        prefixes.Find(null).ShouldBeNull();
        prefixes.Find("rubbish").ShouldBeNull();
    }
}
