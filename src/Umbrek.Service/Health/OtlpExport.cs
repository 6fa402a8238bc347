using System.Diagnostics.Metrics;
using OpenTelemetry;
using OpenTelemetry.Exporter;
using OpenTelemetry.Metrics;
using OpenTelemetry.Resources;
using Umbrek.Core.Access;
using Umbrek.Service.Hosting;

namespace Umbrek.Service.Health;

/// <summary>Where figures are sent to.</summary>
/// <param name="Collector">The collector's address; figures go to v1/metrics below it.</param>
/// <param name="Headers">Like <c>authorization=Bearer …</c>, with commas between several.</param>
public sealed record OtlpTarget(Uri Collector, string? Headers = null, double EverySeconds = 60);

/// <summary>Sends the figures of every host and the service's own to a collector, by OTLP over HTTP with protobuf (OpenTelemetry Protocol 1.x).</summary>
public sealed class OtlpExport(EstateFigures figures, ServiceOptions options, TimeProvider time) : IHostedService, IDisposable
{
    private const string MeterName = "umbrek";

    /// <summary>Figures of one family: many hosts with a few parts each.</summary>
    private const int MostOfFamily = 500_000;

    /// <summary>All families are asked for one after the other, and are of one moment.</summary>
    private static readonly TimeSpan OneMoment = TimeSpan.FromSeconds(2);

    private readonly Meter meter = new(MeterName);
    private MeterProvider? provider;
    private (DateTimeOffset At, Dictionary<string, FigureFamily> Families) taken;

    public Task StartAsync(CancellationToken cancellationToken)
    {
        if (options.Otlp is not { } target)
        {
            return Task.CompletedTask;
        }
        foreach (var family in figures.Of(Reach.Unlimited))
        {
            if (family.Type == "counter")
            {
                meter.CreateObservableCounter(family.Name, () => Read(family.Name), family.Unit, family.Help);
            }
            else
            {
                meter.CreateObservableGauge(family.Name, () => Read(family.Name), family.Unit, family.Help);
            }
        }
        provider = Sdk.CreateMeterProviderBuilder()
            .ConfigureResource(r => r.AddService("umbrek", serviceVersion: typeof(OtlpExport).Assembly.GetName().Version?.ToString(3)))
            .AddMeter(MeterName)
            .AddView("*", new MetricStreamConfiguration { CardinalityLimit = MostOfFamily })
            .AddOtlpExporter((exporter, reader) =>
            {
                exporter.Protocol = OtlpExportProtocol.HttpProtobuf;
                exporter.Endpoint = new Uri(target.Collector.AbsoluteUri.TrimEnd('/') + "/v1/metrics");
                exporter.Headers = target.Headers;
                reader.PeriodicExportingMetricReaderOptions = new PeriodicExportingMetricReaderOptions { ExportIntervalMilliseconds = (int)(target.EverySeconds * 1000) };
            })
            .Build();
        return Task.CompletedTask;
    }

    public Task StopAsync(CancellationToken cancellationToken)
    {
        provider?.Shutdown(2000);
        return Task.CompletedTask;
    }

    public void Dispose()
    {
        provider?.Dispose();
        meter.Dispose();
    }

    private IEnumerable<Measurement<double>> Read(string family)
    {
        var now = time.GetUtcNow();
        if (taken.Families is null || now - taken.At > OneMoment || now < taken.At)
        {
            taken = (now, figures.Of(Reach.Unlimited).ToDictionary(f => f.Name));
        }
        foreach (var (labels, value) in taken.Families.GetValueOrDefault(family)?.Figures ?? [])
        {
            yield return new Measurement<double>(value, labels.Select(l => KeyValuePair.Create(l.Name, (object?)l.Value)));
        }
    }
}
