package health_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"trevak/internal/gauge"
	"trevak/internal/health"
)

const event = `{"specversion":"1.0","id":"1","source":"s","type":"t","subject":"SUBJECT"}`

func TestServer(t *testing.T) {
	var mutex sync.Mutex
	var told, refused []string
	ready := errors.New("the sources were not listed yet")
	gauges := gauge.New(nil)
	gauges.Loaded(t.Context(), `ti"des`, "loaded", gauge.Counts{Rows: 7})
	s := &health.Server{Gauges: gauges, Secret: "s",
		Ready: func() error { mutex.Lock(); defer mutex.Unlock(); return ready },
		Told: func(_ context.Context, uri string) bool {
			mutex.Lock()
			defer mutex.Unlock()
			told = append(told, uri)
			return strings.HasPrefix(uri, "in/")
		},
		Refused: func(_, why string) { mutex.Lock(); refused = append(refused, why); mutex.Unlock() }}
	address, err := s.Listen(t.Context(), "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ask := func(method, path, kind, secret, body string) (int, string, http.Header) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), method, "http://"+address+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", kind)
		if secret != "" {
			r.Header.Set("Authorization", "Bearer "+secret)
		}
		r.Header.Set("WebHook-Request-Origin", "store.example")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(text), answer.Header
	}
	const one, many = "application/cloudevents+json", "application/cloudevents-batch+json"
	inside, outside := strings.Replace(event, "SUBJECT", "in/a.csv", 1), strings.Replace(event, "SUBJECT", "elsewhere", 1)
	for _, c := range []struct {
		method, path, kind, secret, body string
		status                           int
		want                             string
	}{
		{"GET", "/healthz", "", "", "", 200, "alive"}, {"GET", "/readyz", "", "", "", 503, "not listed yet"},
		{"GET", "/metrics", "", "", "", 200, `trevak_rows_total{feed="ti\"des"} 7`}, {"GET", "/other", "", "", "", 404, ""},
		{"GET", "/events", "", "", "", 405, "posted"}, {"POST", "/events", one, "", inside, 401, "knows the secret"},
		{"POST", "/events", one, "x", inside, 401, "knows the secret"}, {"POST", "/events", one, "s", inside, 204, ""},
		{"POST", "/events", many, "s", "[" + inside + "," + outside + "]", 204, ""}, {"POST", "/events", one, "s", "{", 400, "no event"},
		{"POST", "/events", one, "s", strings.Repeat("x", 9<<20), 413, "too large"}, {"OPTIONS", "/events", "", "", "", 200, ""},
	} {
		status, text, _ := ask(c.method, c.path, c.kind, c.secret, c.body)
		if status != c.status || !strings.Contains(text, c.want) {
			t.Errorf("%s %s: %d %s, want %d %s", c.method, c.path, status, text, c.status, c.want)
		}
	}
	if _, _, h := ask("OPTIONS", "/events", "", "", ""); h.Get("WebHook-Allowed-Origin") != "store.example" {
		t.Errorf("%v", h)
	}
	mutex.Lock()
	if strings.Join(told, " ") != "in/a.csv in/a.csv elsewhere" || len(refused) != 5 || !strings.Contains(strings.Join(refused, " "), "in no source") {
		t.Errorf("%q, %q", told, refused)
	}
	ready = nil
	mutex.Unlock()
	if status, text, _ := ask("GET", "/readyz", "", "", ""); status != 200 || text != "ready\n" {
		t.Errorf("%d %s", status, text)
	}
	if _, err := s.Listen(t.Context(), address); err == nil {
		t.Error("an address was taken twice")
	}
	s.Secret = ""
	if other, err := s.Listen(t.Context(), "127.0.0.1:0"); err == nil {
		address = other
	}
	if status, _, _ := ask("POST", "/events", one, "s", inside); status != 403 {
		t.Errorf("%d", status)
	}
}
