package gauge

import (
	"context"
	"strconv"
	"time"

	"go.opentelemetry.io/otel/attribute"
	sdkmetric "go.opentelemetry.io/otel/sdk/metric"
	"go.opentelemetry.io/otel/sdk/metric/metricdata"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
)

func serviceName(env func(string) string) attribute.KeyValue {
	name := env("OTEL_SERVICE_NAME")
	if name == "" {
		name = scope
	}
	return attribute.String("service.name", name)
}

// The messages of the protocol, as JSON has them (OpenTelemetry Protocol, "JSON Protobuf Encoding"): whole numbers are texts, ids are
// hexadecimal.
type (
	pair struct {
		Key   string `json:"key"`
		Value any    `json:"value"`
	}
	about struct {
		Attributes []pair `json:"attributes"`
	}
	instrumented struct {
		Name string `json:"name"`
	}
	spanMessage struct {
		TraceID      string         `json:"traceId"`
		SpanID       string         `json:"spanId"`
		ParentSpanID string         `json:"parentSpanId,omitempty"`
		Name         string         `json:"name"`
		Kind         int            `json:"kind"`
		Start        string         `json:"startTimeUnixNano"`
		End          string         `json:"endTimeUnixNano"`
		Attributes   []pair         `json:"attributes,omitempty"`
		Status       map[string]any `json:"status"`
	}
	pointMessage struct {
		Attributes []pair   `json:"attributes,omitempty"`
		Start      string   `json:"startTimeUnixNano,omitempty"`
		Time       string   `json:"timeUnixNano"`
		Int        string   `json:"asInt,omitempty"`
		Double     *float64 `json:"asDouble,omitempty"`
	}
	sumMessage struct {
		Points      []pointMessage `json:"dataPoints"`
		Temporality int            `json:"aggregationTemporality"`
		Monotonic   bool           `json:"isMonotonic"`
	}
	gaugeMessage struct {
		Points []pointMessage `json:"dataPoints"`
	}
	metricMessage struct {
		Name  string        `json:"name"`
		Unit  string        `json:"unit,omitempty"`
		Sum   *sumMessage   `json:"sum,omitempty"`
		Gauge *gaugeMessage `json:"gauge,omitempty"`
	}
)

func pairs(list []attribute.KeyValue) []pair {
	var out []pair
	for _, kv := range list {
		value := map[string]any{"stringValue": kv.Value.Emit()}
		switch kv.Value.Type() {
		case attribute.INT64:
			value = map[string]any{"intValue": strconv.FormatInt(kv.Value.AsInt64(), 10)}
		case attribute.BOOL:
			value = map[string]any{"boolValue": kv.Value.AsBool()}
		}
		out = append(out, pair{string(kv.Key), value})
	}
	return out
}

func resourceOf(r *resource.Resource) about { return about{pairs(r.Attributes())} }

func nanos(at time.Time) string { return strconv.FormatInt(at.UnixNano(), 10) }

type spanExporter struct{ *exporter }

// ExportSpans sends spans.
func (e spanExporter) ExportSpans(ctx context.Context, list []sdktrace.ReadOnlySpan) error {
	if len(list) == 0 {
		return nil
	}
	var spans []spanMessage
	for _, s := range list {
		m := spanMessage{TraceID: s.SpanContext().TraceID().String(), SpanID: s.SpanContext().SpanID().String(), Name: s.Name(),
			Kind: int(s.SpanKind()), Start: nanos(s.StartTime()), End: nanos(s.EndTime()), Attributes: pairs(s.Attributes()),
			Status: map[string]any{}}
		if s.Parent().IsValid() {
			m.ParentSpanID = s.Parent().SpanID().String()
		}
		if text := s.Status().Description; text != "" {
			m.Status = map[string]any{"code": 2, "message": text}
		}
		spans = append(spans, m)
	}
	return e.post(ctx, map[string]any{"resourceSpans": []any{map[string]any{"resource": resourceOf(list[0].Resource()),
		"scopeSpans": []any{map[string]any{"scope": instrumented{scope}, "spans": spans}}}}})
}

// Shutdown has nothing left to do.
func (e spanExporter) Shutdown(context.Context) error { return nil }

type metricExporter struct{ *exporter }

// Temporality has sums add up from the beginning.
func (e metricExporter) Temporality(sdkmetric.InstrumentKind) metricdata.Temporality {
	return metricdata.CumulativeTemporality
}

// Aggregation is the usual one of an instrument.
func (e metricExporter) Aggregation(k sdkmetric.InstrumentKind) sdkmetric.Aggregation {
	return sdkmetric.DefaultAggregationSelector(k)
}

// Export sends metrics.
func (e metricExporter) Export(ctx context.Context, all *metricdata.ResourceMetrics) error {
	var list []metricMessage
	for _, s := range all.ScopeMetrics {
		for _, m := range s.Metrics {
			one := metricMessage{Name: m.Name, Unit: m.Unit}
			switch data := m.Data.(type) {
			case metricdata.Sum[int64]:
				one.Sum = &sumMessage{points(data.DataPoints), 2, data.IsMonotonic}
			case metricdata.Sum[float64]:
				one.Sum = &sumMessage{points(data.DataPoints), 2, data.IsMonotonic}
			case metricdata.Gauge[float64]:
				one.Gauge = &gaugeMessage{points(data.DataPoints)}
			default:
				continue
			}
			list = append(list, one)
		}
	}
	if len(list) == 0 {
		return nil
	}
	return e.post(ctx, map[string]any{"resourceMetrics": []any{map[string]any{"resource": resourceOf(all.Resource),
		"scopeMetrics": []any{map[string]any{"scope": instrumented{scope}, "metrics": list}}}}})
}

func points[N int64 | float64](list []metricdata.DataPoint[N]) []pointMessage {
	var out []pointMessage
	for _, p := range list {
		m := pointMessage{Attributes: pairs(p.Attributes.ToSlice()), Time: nanos(p.Time)}
		if !p.StartTime.IsZero() {
			m.Start = nanos(p.StartTime)
		}
		switch v := any(p.Value).(type) {
		case int64:
			m.Int = strconv.FormatInt(v, 10)
		case float64:
			m.Double = &v
		}
		out = append(out, m)
	}
	return out
}

// ForceFlush has nothing that waits.
func (e metricExporter) ForceFlush(context.Context) error { return nil }

// Shutdown has nothing left to do.
func (e metricExporter) Shutdown(context.Context) error { return nil }
