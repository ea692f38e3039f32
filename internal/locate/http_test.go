package locate

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"trevak/internal/fault"
)

func TestRemoteObjectsAreReadOn(t *testing.T) {
	firstWait = time.Millisecond
	text := strings.Repeat("some text to fetch\n", 50_000)
	var requests, failures atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		requests.Add(1)
		switch {
		case r.URL.Path == "/gone.csv":
			http.NotFound(w, r)
		case r.URL.Path == "/down.csv", r.URL.Path == "/shaky.csv" && failures.Add(1)%3 == 1:
			http.Error(w, "later", http.StatusServiceUnavailable)
		case r.URL.Path == "/shaky.csv":
			var from int
			fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from)
			w.Header().Set("ETag", `"v1"`)
			w.Header().Set("Content-Length", fmt.Sprint(len(text)-from))
			if from > 0 {
				w.WriteHeader(http.StatusPartialContent)
			}
			// Only a part is sent before the connection breaks.
			io.WriteString(w, text[from:min(len(text), from+200_000)])
		default:
			http.ServeContent(w, r, "x.csv", time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC), strings.NewReader(text))
		}
	}))
	defer server.Close()
	for _, name := range []string{"/plain.csv", "/shaky.csv"} {
		found, err := Resolve(t.Context(), []string{server.URL + name}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if found.Objects[0].Size != int64(len(text)) || name == "/plain.csv" && found.Objects[0].Modified.Year() != 2031 {
			t.Errorf("%+v", found.Objects[0])
		}
		s, err := found.Objects[0].Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(s)
		s.Close()
		if err != nil || string(got) != text {
			t.Errorf("%s: %d bytes of %d, %v", name, len(got), len(text), err)
		}
	}
	if requests.Load() < 8 {
		t.Errorf("%d requests", requests.Load())
	}
	for name, want := range map[string]string{"/gone.csv": "the server answers 404", "/down.csv": "could not be fetched in 5 tries: the server answers 503"} {
		if _, err := Resolve(t.Context(), []string{server.URL + name}, nil); fault.KindOf(err) != fault.Storage || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
}
