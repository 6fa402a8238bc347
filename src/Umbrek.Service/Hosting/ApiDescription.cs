using Microsoft.AspNetCore.OpenApi;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Hosting;

/// <summary>The OpenAPI document: the service's own words, and the one error shape on every operation.</summary>
public static class ApiDescription
{
    public static void Configure(OpenApiOptions options)
    {
        options.AddDocumentTransformer((document, _, _) =>
        {
            document.Info.Title = "Umbrek";
            document.Info.Version = "1";
            document.Info.Description = "Everything the console and the client do. Errors are problem details (RFC 9457).";
            document.Servers?.Clear();
            return Task.CompletedTask;
        });
        options.AddOperationTransformer(async (operation, context, cancel) =>
        {
            var schema = await context.GetOrCreateSchemaAsync(typeof(Problem), null, cancel).ConfigureAwait(false);
            context.Document?.AddComponent("Problem", schema);
            operation.Responses ??= [];
            operation.Responses["default"] = new Microsoft.OpenApi.OpenApiResponse
            {
                Description = "What went wrong and what to do.",
                Content = new Dictionary<string, Microsoft.OpenApi.OpenApiMediaType>
                {
                    ["application/problem+json"] = new() { Schema = new Microsoft.OpenApi.OpenApiSchemaReference("Problem", context.Document) },
                },
            };
        });
    }
}
