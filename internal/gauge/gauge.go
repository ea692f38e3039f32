// Package gauge measures what a program that runs by itself does: counters and gauges as Prometheus reads them, and spans and counters as
// OpenTelemetry has them.
//
// What comes in is what happens to feeds; what goes out is the text of the metrics, and exports to where the environment says.
package gauge

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/VictoriaMetrics/metrics"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/metric"
	"go.opentelemetry.io/otel/trace"
)

// Set is all that is measured. It may be used by several goroutines.
type Set struct {
	set *metrics.Set
	// tracer and meter are where spans and counters of OpenTelemetry go, which may be nowhere.
	tracer trace.Tracer
	meter  metric.Meter

	mutex    sync.Mutex
	counters map[string]metric.Int64Counter
	seconds  metric.Float64Counter
}

// New begins to measure; telemetry may be nil.
func New(t *Telemetry) *Set {
	s := &Set{set: metrics.NewSet(), counters: map[string]metric.Int64Counter{}}
	s.tracer, s.meter = t.providers()
	// Instruments whose names are legal are always made.
	s.seconds, _ = s.meter.Float64Counter("trevak.stage.duration", metric.WithUnit("s"))
	return s
}

// Counts are what is counted of a load.
type Counts struct {
	Objects, Records, Rows, BytesRead, BytesWritten, Misfits, Quarantined int64
}

// Loaded counts what a load of a feed took in, and its outcome.
func (s *Set) Loaded(ctx context.Context, feed, outcome string, c Counts) {
	s.add(ctx, "loads", "", 1, attribute.String("feed", feed), attribute.String("outcome", outcome))
	for _, one := range []struct {
		name, unit string
		n          int64
	}{{"objects", "{object}", c.Objects}, {"records", "{record}", c.Records}, {"rows", "{row}", c.Rows}, {"bytes_read", "By", c.BytesRead},
		{"bytes_written", "By", c.BytesWritten}, {"misfits", "{value}", c.Misfits}, {"quarantined", "{record}", c.Quarantined}} {
		s.add(ctx, one.name, one.unit, one.n, attribute.String("feed", feed))
	}
}

// Passed counts objects that were not loaded for a reason.
func (s *Set) Passed(ctx context.Context, feed, why string, n int64) {
	s.add(ctx, "objects_passed_over", "{object}", n, attribute.String("feed", feed), attribute.String("reason", why))
}

// Listed counts what a listing cost.
func (s *Set) Listed(ctx context.Context, feed string, objects, requests int64) {
	s.add(ctx, "listed_objects", "{object}", objects, attribute.String("feed", feed))
	s.add(ctx, "listing_requests", "{request}", requests, attribute.String("feed", feed))
}

// Stage counts the seconds that a stage of a feed took.
func (s *Set) Stage(ctx context.Context, feed, stage string, took time.Duration) {
	s.set.GetOrCreateFloatCounter(name("stage_seconds_total", "feed", feed, "stage", stage)).Add(took.Seconds())
	s.seconds.Add(ctx, took.Seconds(), metric.WithAttributes(attribute.String("feed", feed), attribute.String("stage", stage)))
}

// Gauge has a value of a feed told whenever metrics are read. It may be stated once for each.
func (s *Set) Gauge(what, feed string, value func() float64) {
	s.set.GetOrCreateGauge(name(what, "feed", feed), value)
	_, _ = s.meter.Float64ObservableGauge("trevak."+what, metric.WithFloat64Callback(func(_ context.Context, o metric.Float64Observer) error {
		o.Observe(value(), metric.WithAttributes(attribute.String("feed", feed)))
		return nil
	}))
}

func (s *Set) add(ctx context.Context, what, unit string, n int64, labels ...attribute.KeyValue) {
	var pairs []string
	for _, l := range labels {
		pairs = append(pairs, string(l.Key), l.Value.AsString())
	}
	s.set.GetOrCreateCounter(name(what+"_total", pairs...)).Add(int(n))
	s.mutex.Lock()
	c, ok := s.counters[what]
	if !ok {
		// Instruments whose names are legal are always made.
		c, _ = s.meter.Int64Counter("trevak."+what, metric.WithUnit(unit))
		s.counters[what] = c
	}
	s.mutex.Unlock()
	c.Add(ctx, n, metric.WithAttributes(labels...))
}

// name writes a metric with its labels.
func name(what string, pairs ...string) string {
	labels := make([]string, 0, len(pairs)/2)
	for i := 0; i < len(pairs); i += 2 {
		labels = append(labels, fmt.Sprintf("%s=%q", pairs[i], pairs[i+1]))
	}
	return "trevak_" + what + "{" + strings.Join(labels, ",") + "}"
}

// Write writes all metrics in the text format of Prometheus.
func (s *Set) Write(w io.Writer) { s.set.WritePrometheus(w) }

// Span begins a span, which the function that it returns ends, with an error or none.
func (s *Set) Span(ctx context.Context, what string, labels ...string) (context.Context, func(error)) {
	var kv []attribute.KeyValue
	for i := 0; i+1 < len(labels); i += 2 {
		kv = append(kv, attribute.String(labels[i], labels[i+1]))
	}
	ctx, span := s.tracer.Start(ctx, what, trace.WithAttributes(kv...))
	return ctx, func(err error) { endSpan(span, err) }
}
