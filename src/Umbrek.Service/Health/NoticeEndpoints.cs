using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

public static class NoticeEndpoints
{
    public static void MapNotices(this IEndpointRouteBuilder api)
    {
        var deliveries = api.MapGroup("/deliveries").WithTags("Health");
        deliveries.MapGet("", async (NoticeService service, Asker by, Guid? notice, string? state, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await service.DeliveriesAsync(notice, QueryWord.Read(state, WireJson.Default.DeliveryState), cursor, limit, by, cancel).ConfigureAwait(false)))
            .Own().WithName("listDeliveries").WithSummary("What notices sent, and what did not arrive, newest first.");
        deliveries.MapGet("/{id:guid}", async (NoticeService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.DeliveryAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getDelivery").WithSummary("One delivery; with what it says for whoever may change its notice.");
        deliveries.MapPost("/act", async (NoticeService service, Asker by, DeliveryAct act, CancellationToken cancel) => TypedResults.Ok(await service.ActAsync(act, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("actOnDeliveries").WithSummary("Has what did not arrive tried again, or forgets it.");

        var notices = api.MapGroup("/notices").WithTags("Health");
        notices.MapGet("", async (NoticeService service, Asker by, CancellationToken cancel) =>
        {
            var list = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<NoticeInfo>(list, null, list.Count));
        }).Own().WithName("listNotices").WithSummary("Who is told of which alerts, how and when.");
        notices.MapPost("", async (NoticeService service, HttpContext http, Asker by, NewNotice wish, CancellationToken cancel) => Answer(http, await service.CreateAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("createNotice").WithSummary("Tells somebody of alerts, by mail or web hook; a web hook's secret is shown this once.");
        notices.MapGet("/{id:guid}", async (NoticeService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getNotice").WithSummary("A notice.");
        notices.MapPut("/{id:guid}", async (NoticeService service, HttpContext http, Asker by, Guid id, NewNotice wish, CancellationToken cancel) =>
            Answer(http, await service.ChangeAsync(id, wish, http.IfMatchVersion("notice"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("changeNotice").WithSummary("Changes a notice, or switches it off.");
        notices.MapPost("/{id:guid}/secret", async (NoticeService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.RenewSecretAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("renewNoticeSecret").WithSummary("Another secret for a web hook, shown this once.");
        notices.MapPost("/{id:guid}/try", async (NoticeService service, Asker by, Guid id, string? to, CancellationToken cancel) => TypedResults.Ok(await service.TryAsync(id, to, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("tryNotice").WithSummary("Sends something harmless now, and says how that went.");
        notices.MapDelete("/{id:guid}", async (NoticeService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("removeNotice").WithSummary("Removes a notice with what it has not sent yet.");

        var mail = api.MapGroup("/settings").WithTags("Health");
        mail.MapGet("/mail", async (MailSetup setup, HttpContext http, CancellationToken cancel) => Answer(http, await setup.GetAsync(cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("getMailSettings").WithSummary("Through which server mail goes out; its password is never shown.");
        mail.MapPut("/mail", async (MailSetup setup, HttpContext http, Asker by, MailSettingsWish wish, CancellationToken cancel) => Answer(http, await setup.SetAsync(wish, http.IfMatchVersion("mail settings"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Everywhere, Permission.Administer).WithName("changeMailSettings").WithSummary("Sets the server that mail goes out through.");
    }

    private static Microsoft.AspNetCore.Http.HttpResults.Ok<NoticeInfo> Answer(HttpContext http, NoticeInfo notice)
    {
        http.SetVersion(notice.Version);
        return TypedResults.Ok(notice);
    }

    private static Microsoft.AspNetCore.Http.HttpResults.Ok<NoticeMade> Answer(HttpContext http, NoticeMade made)
    {
        http.SetVersion(made.Notice.Version);
        http.Response.Headers.CacheControl = "no-store";
        return TypedResults.Ok(made);
    }

    private static Microsoft.AspNetCore.Http.HttpResults.Ok<MailSettings> Answer(HttpContext http, MailSettings settings)
    {
        http.SetVersion(settings.Version);
        return TypedResults.Ok(settings);
    }
}
