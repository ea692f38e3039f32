package gauge

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"
)

func TestPrometheus(t *testing.T) {
	s := New(nil)
	s.Loaded(t.Context(), "tides", "loaded", Counts{Objects: 2, Records: 10, Rows: 9, Quarantined: 1})
	s.Loaded(t.Context(), "tides", "refused", Counts{})
	s.Passed(t.Context(), "tides", "temporary", 3)
	s.Listed(t.Context(), "tides", 100, 2)
	s.Stage(t.Context(), "tides", "writing", 1500*time.Millisecond)
	s.Gauge("lag_seconds", "tides", func() float64 { return 4.5 })
	var b bytes.Buffer
	s.Write(&b)
	for _, want := range []string{`trevak_loads_total{feed="tides",outcome="loaded"} 1`, `trevak_rows_total{feed="tides"} 9`,
		`trevak_objects_passed_over_total{feed="tides",reason="temporary"} 3`, `trevak_listing_requests_total{feed="tides"} 2`,
		`trevak_stage_seconds_total{feed="tides",stage="writing"} 1.5`, `trevak_lag_seconds{feed="tides"} 4.5`} {
		if !strings.Contains(b.String(), want+"\n") {
			t.Errorf("%s is not in\n%s", want, b.String())
		}
	}
}

// TestOpenTelemetry exports to a server what the environment says.
func TestOpenTelemetry(t *testing.T) {
	var mutex sync.Mutex
	got := map[string]map[string]any{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		var message map[string]any
		if err := json.Unmarshal(body, &message); err != nil || r.Header.Get("X-Key") != "a b" || r.Header.Get("Content-Type") != "application/json" {
			t.Errorf("%v: %s", err, r.Header)
		}
		mutex.Lock()
		got[r.URL.Path] = message
		mutex.Unlock()
	}))
	defer server.Close()
	env := map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": server.URL, "OTEL_EXPORTER_OTLP_HEADERS": "x-key=a%20b", "OTEL_SERVICE_NAME": "harbour"}
	tel, err := OpenTelemetry(t.Context(), func(n string) string { return env[n] }, func(err error) { t.Error(err) })
	if err != nil {
		t.Fatal(err)
	}
	s := New(tel)
	ctx, end := s.Span(t.Context(), "run", "trevak.sheet", "day.yaml")
	_, endFeed := s.Span(ctx, "feed", "trevak.feed", "tides")
	s.Loaded(ctx, "tides", "loaded", Counts{Rows: 9})
	s.Gauge("lag_seconds", "tides", func() float64 { return 0 })
	endFeed(errors.New("a value \"secret\""))
	end(nil)
	tel.Close(t.Context())
	mutex.Lock()
	defer mutex.Unlock()
	text := func(path string) string {
		b, _ := json.Marshal(got[path])
		return string(b)
	}
	traces, numbers := text("/v1/traces"), text("/v1/metrics")
	for _, want := range []string{`"name":"feed"`, `"parentSpanId":"`, `"service.name"`, `"stringValue":"harbour"`, `"code":2`} {
		if !strings.Contains(traces, want) {
			t.Errorf("%s is not in %s", want, traces)
		}
	}
	for _, want := range []string{`"name":"trevak.rows"`, `"asInt":"9"`, `"isMonotonic":true`, `"name":"trevak.lag_seconds"`, `"asDouble":0`} {
		if !strings.Contains(numbers, want) {
			t.Errorf("%s is not in %s", want, numbers)
		}
	}
	if strings.Contains(traces, "secret") {
		t.Error("a value was told")
	}
}

func TestTelemetryOfTheEnvironment(t *testing.T) {
	for name, c := range map[string]struct {
		env  map[string]string
		want string // traces, metrics, none, or a part of an error
	}{
		"nothing":  {map[string]string{}, "none"},
		"off":      {map[string]string{"OTEL_SDK_DISABLED": "true", "OTEL_EXPORTER_OTLP_ENDPOINT": "http://x"}, "none"},
		"traces":   {map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": "http://x", "OTEL_METRICS_EXPORTER": "none"}, "traces"},
		"metrics":  {map[string]string{"OTEL_EXPORTER_OTLP_METRICS_ENDPOINT": "http://x/m"}, "metrics"},
		"protocol": {map[string]string{"OTEL_EXPORTER_OTLP_PROTOCOL": "grpc"}, "http/json is what is spoken"},
		"address":  {map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": "x:4317"}, "no address"},
	} {
		tel, err := OpenTelemetry(t.Context(), func(n string) string { return c.env[n] }, func(error) {})
		got := "none"
		switch {
		case err != nil:
			got = err.Error()
		case tel != nil && tel.traces != nil:
			got = "traces"
		case tel != nil && tel.metrics != nil:
			got = "metrics"
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%s: %s", name, got)
		}
		ended, stop := context.WithTimeout(t.Context(), time.Millisecond)
		tel.Close(ended)
		stop()
	}
}
