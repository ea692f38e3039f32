package gauge

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/metric"
	nometrics "go.opentelemetry.io/otel/metric/noop"
	sdkmetric "go.opentelemetry.io/otel/sdk/metric"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
	notraces "go.opentelemetry.io/otel/trace/noop"
)

// Telemetry exports spans and metrics by the protocol of OpenTelemetry over HTTP, as JSON. Its exporters are our own, since those of the
// library bring calls to other programs along that would double what is built.
type Telemetry struct {
	traces  *sdktrace.TracerProvider
	metrics *sdkmetric.MeterProvider
}

const scope = "trevak"

// OpenTelemetry prepares to export as the environment says by the standard variables; nil where it names nobody. failed is told of exports
// that fail.
func OpenTelemetry(ctx context.Context, env func(string) string, failed func(error)) (*Telemetry, error) {
	if env("OTEL_SDK_DISABLED") == "true" {
		return nil, nil
	}
	if p := env("OTEL_EXPORTER_OTLP_PROTOCOL"); p != "" && !strings.HasPrefix(p, "http/") {
		return nil, fmt.Errorf("OTEL_EXPORTER_OTLP_PROTOCOL is %s, and http/json is what is spoken", p)
	}
	traces, err := exporterOf(env, "TRACES", "v1/traces", failed)
	if err != nil {
		return nil, err
	}
	numbers, err := exporterOf(env, "METRICS", "v1/metrics", failed)
	if err != nil || traces == nil && numbers == nil {
		return nil, err
	}
	// What the environment says of the resource is read by the library; what it cannot read is left out.
	about, _ := resource.New(ctx, resource.WithTelemetrySDK(), resource.WithHost(), resource.WithSchemaURL(""))
	named, _ := resource.New(ctx, resource.WithAttributes(serviceName(env)), resource.WithFromEnv())
	if merged, err := resource.Merge(about, named); err == nil {
		about = merged
	}
	t := &Telemetry{}
	if traces != nil {
		t.traces = sdktrace.NewTracerProvider(sdktrace.WithBatcher(spanExporter{traces}), sdktrace.WithResource(about))
	}
	if numbers != nil {
		t.metrics = sdkmetric.NewMeterProvider(sdkmetric.WithReader(sdkmetric.NewPeriodicReader(metricExporter{numbers})),
			sdkmetric.WithResource(about))
	}
	return t, nil
}

func (t *Telemetry) providers() (trace.Tracer, metric.Meter) {
	tracer, meter := notraces.NewTracerProvider().Tracer(scope), nometrics.NewMeterProvider().Meter(scope)
	if t != nil && t.traces != nil {
		tracer = t.traces.Tracer(scope)
	}
	if t != nil && t.metrics != nil {
		meter = t.metrics.Meter(scope)
	}
	return tracer, meter
}

// Close exports what is left, as far as there is time for it.
func (t *Telemetry) Close(ctx context.Context) {
	if t == nil {
		return
	}
	// Exports that fail are told of.
	if t.traces != nil {
		_ = t.traces.Shutdown(ctx)
	}
	if t.metrics != nil {
		_ = t.metrics.Shutdown(ctx)
	}
}

func endSpan(span trace.Span, err error) {
	if err != nil {
		// What went wrong may name values; its kind does not.
		span.SetStatus(codes.Error, "failed")
	}
	span.End()
}

// exporter posts JSON to one place.
type exporter struct {
	url     string
	headers http.Header
	client  *http.Client
	failed  func(error)
}

// exporterOf is the exporter of a signal, nil where there is none (OpenTelemetry, "OTLP exporter configuration").
func exporterOf(env func(string) string, signal, path string, failed func(error)) (*exporter, error) {
	if env("OTEL_"+signal+"_EXPORTER") == "none" {
		return nil, nil
	}
	of := func(name string) string {
		if own := env("OTEL_EXPORTER_OTLP_" + signal + "_" + name); own != "" {
			return own
		}
		return env("OTEL_EXPORTER_OTLP_" + name)
	}
	place := env("OTEL_EXPORTER_OTLP_" + signal + "_ENDPOINT")
	if base := env("OTEL_EXPORTER_OTLP_ENDPOINT"); place == "" && base != "" {
		place = strings.TrimSuffix(base, "/") + "/" + path
	}
	if place == "" {
		return nil, nil
	}
	if u, err := url.Parse(place); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("the environment names %q for OpenTelemetry, which is no address of http or https", place)
	}
	e := &exporter{url: place, headers: http.Header{}, client: &http.Client{Timeout: 10 * time.Second}, failed: failed}
	if ms, err := strconv.Atoi(of("TIMEOUT")); err == nil && ms > 0 {
		e.client.Timeout = time.Duration(ms) * time.Millisecond
	}
	for pair := range strings.SplitSeq(of("HEADERS"), ",") {
		if name, value, ok := strings.Cut(pair, "="); ok {
			if plain, err := url.PathUnescape(strings.TrimSpace(value)); err == nil {
				e.headers.Set(strings.TrimSpace(name), plain)
			}
		}
	}
	return e, nil
}

// post sends a message.
func (e *exporter) post(ctx context.Context, message any) error {
	err := func() error {
		body, err := json.Marshal(message)
		if err != nil {
			return err
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, e.url, bytes.NewReader(body))
		if err != nil {
			return err
		}
		request.Header = e.headers.Clone()
		request.Header.Set("Content-Type", "application/json")
		answer, err := e.client.Do(request)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		// What is said does not matter, and the connection is used again.
		_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16))
		if answer.StatusCode/100 != 2 {
			return fmt.Errorf("%s answered %s", e.url, answer.Status)
		}
		return nil
	}()
	if err != nil {
		e.failed(err)
	}
	return err
}
