using Umbrek.Cli.Files;

namespace Umbrek.Cli.Tests.Files;

public sealed class AskedAheadTests
{
    private readonly AskedAhead<int> asked = new(4);
    private int sent;

    [Fact]
    public async Task Where_all_are_on_their_way_half_are_answered_before_the_next_is_asked_and_what_was_filled_in_is_sent()
    {
        for (var i = 0; i < 4; i++)
        {
            Add(i).IsCompletedSuccessfully.ShouldBeTrue();
        }
        sent.ShouldBe(0, "there is room for them");
        var fifth = Add(4);
        sent.ShouldBe(1);

        await using var reading = asked.ReadAllAsync(default).GetAsyncEnumerator();
        for (var i = 0; i < 2; i++)
        {
            (await reading.MoveNextAsync()).ShouldBeTrue();
            reading.Current.ShouldBe(i);
        }
        fifth.IsCompleted.ShouldBeFalse("the second is not answered before the third is asked for");
        (await reading.MoveNextAsync()).ShouldBeTrue();
        await fifth.WaitAsync(TimeSpan.FromSeconds(30));
        Add(5).IsCompletedSuccessfully.ShouldBeTrue("there is room for two");
        Add(6).IsCompleted.ShouldBeFalse();
        sent.ShouldBe(2);
    }

    [Fact]
    public async Task Who_waits_for_room_can_be_called_off()
    {
        for (var i = 0; i < 4; i++)
        {
            await Add(i);
        }
        using var cancel = new CancellationTokenSource();
        var fifth = Add(4, cancel.Token);
        await cancel.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(fifth);
        asked.TakeLeft().ShouldBe([0, 1, 2, 3]);
    }

    [Fact]
    public async Task What_was_asked_is_heard_before_why_no_more_is()
    {
        await Add(1);
        asked.Complete(new IOException("the line broke"));
        var heard = new List<int>();
        var broken = await Should.ThrowAsync<IOException>(async () =>
        {
            await foreach (var next in asked.ReadAllAsync(default))
            {
                heard.Add(next);
            }
        });
        (broken.Message, heard.Single()).ShouldBe(("the line broke", 1));
    }

    private Task Add(int question, CancellationToken cancel = default) => asked.AddAsync(question, SendAsync, cancel).AsTask();

    private Task SendAsync(CancellationToken cancel)
    {
        sent++;
        return Task.CompletedTask;
    }
}
