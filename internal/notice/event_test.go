package notice

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"
)

const single = `{"specversion":"1.0","id":"1","source":"/store","type":"made","time":"2031-05-03T06:00:00Z","subject":"in/a.csv"}`

func TestDecode(t *testing.T) {
	for name, c := range map[string]struct {
		kind, text string
		events     int
		err        string
	}{
		"one":       {OneEvent + "; charset=utf-8", single, 1, ""},
		"many":      {ManyEvents, "[" + single + "," + single + "]", 2, ""},
		"none":      {ManyEvents, "[]", 0, ""},
		"untold":    {"", "[" + single + "]", 1, ""},
		"plain":     {"application/json", single, 1, ""},
		"other":     {"text/plain", single, 0, "not text/plain"},
		"empty":     {OneEvent, " ", 0, "no event"},
		"no id":     {OneEvent, strings.Replace(single, `"id":"1"`, `"id":""`, 1), 0, "lacks one of"},
		"version":   {OneEvent, strings.Replace(single, "1.0", "0.3", 1), 0, "lacks one of"},
		"time":      {OneEvent, strings.Replace(single, "2031-05-03T06:00:00Z", "soon", 1), 0, "none of RFC 3339"},
		"truncated": {OneEvent, single[:40], 0, "no event"},
	} {
		list, err := Decode(c.kind, []byte(c.text))
		if len(list) != c.events || (err == nil) != (c.err == "") || err != nil && !strings.Contains(err.Error(), c.err) {
			t.Errorf("%s: %d events, %v", name, len(list), err)
		}
	}
	h := http.Header{"Ce-Specversion": {"1.0"}, "Ce-Id": {"7"}, "Ce-Source": {"s"}, "Ce-Type": {"t"}, "Ce-Subject": {"in/b.csv"}}
	if list, err := DecodeRequest(h, []byte(`{"key":"x"}`)); err != nil || len(list) != 1 || list[0].Objects()[0] != "in/b.csv" {
		t.Errorf("%+v, %v", list, err)
	}
	h.Del("Ce-Id")
	if _, err := DecodeRequest(h, nil); err == nil {
		t.Error("an event without an id was taken")
	}
}

func TestObjects(t *testing.T) {
	for data, want := range map[string]string{
		`{"uri":"s3://b/a.csv"}`: "s3://b/a.csv", `{"url":"https://x/y"}`: "https://x/y", `{"bucket":"b","key":"in/a.csv"}`: "s3://b/in/a.csv",
		`{"objects":["a","b"]}`: "a b", `[1]`: "in/s.csv", ``: "in/s.csv",
	} {
		e := Event{Subject: "in/s.csv", Data: json.RawMessage(data)}
		if got := strings.Join(e.Objects(), " "); got != want {
			t.Errorf("%s: %s", data, got)
		}
	}
	g := Event{Type: "google.cloud.storage.object.v1.finalized", Data: json.RawMessage(`{"bucket":"b","name":"in/a.csv"}`)}
	if got := g.Objects(); len(got) != 1 || got[0] != "gs://b/in/a.csv" {
		t.Errorf("%v", got)
	}
	if got := (Event{Subject: "file:///in/a.csv"}).Objects(); got[0] != "/in/a.csv" {
		t.Errorf("%v", got)
	}
}

func TestGenuine(t *testing.T) {
	now, body := time.Now(), []byte("text")
	signed := func(secret string, at time.Time) http.Header {
		h := http.Header{}
		sign(h, secret, "id", at, body)
		return h
	}
	other := signed("s", now)
	other.Set("webhook-id", "another")
	for name, c := range map[string]struct {
		h    http.Header
		body string
		good bool
	}{
		"signed": {signed("s", now), "text", true}, "text": {signed("s", now), "texts", false}, "secret": {signed("t", now), "text", false},
		"old": {signed("s", now.Add(-time.Hour)), "text", false}, "future": {signed("s", now.Add(time.Hour)), "text", false}, "id": {other, "text", false},
		"token": {http.Header{"Authorization": {"Bearer s"}}, "text", true}, "wrong": {http.Header{"Authorization": {"Bearer x"}}, "text", false},
		"nothing": {http.Header{}, "text", false},
	} {
		if err := Genuine(c.h, "s", now, []byte(c.body)); (err == nil) != c.good {
			t.Errorf("%s: %v", name, err)
		}
	}
	// The example of the specification.
	want := "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="
	if got := signature("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330",
		[]byte(`{"test": 2432232314}`)); got != want {
		t.Errorf("%s", got)
	}
}

// TestTeller tells in order, again where the receiver fails, and waits for nobody.
func TestTeller(t *testing.T) {
	var mutex sync.Mutex
	var got []string
	fails := 1
	good := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mutex.Lock()
		defer mutex.Unlock()
		if fails--; fails >= 0 {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		if err := Genuine(r.Header, "s", time.Now(), body); err != nil {
			t.Error(err)
		}
		list, err := DecodeRequest(r.Header, body)
		if err != nil {
			t.Error(err)
			return
		}
		got = append(got, list[0].Type+" "+list[0].Subject)
	}))
	defer good.Close()
	hang := make(chan struct{})
	hangs := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	defer hangs.Close()
	defer close(hang)
	lost := 0
	teller := NewTeller(t.Context(), "here", []Receiver{{URL: good.URL, Secret: "s", Of: []string{"failed"}},
		{URL: hangs.URL, Of: []string{"failed", "loaded"}}}, func(Event, string, error) { mutex.Lock(); lost++; mutex.Unlock() })
	began := time.Now()
	for i := range mostQueued + 100 {
		teller.Tell("loaded", "many", time.Now(), nil)
		if i < 3 {
			teller.Tell("failed", string(rune('a'+i)), time.Now(), []byte("{}"))
		}
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("telling took %s", took)
	}
	for range 100 {
		mutex.Lock()
		done := len(got) == 3
		mutex.Unlock()
		if done {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	mutex.Lock()
	if strings.Join(got, ", ") != "trevak.failed a, trevak.failed b, trevak.failed c" || lost < 90 {
		t.Errorf("%v, %d lost", got, lost)
	}
	mutex.Unlock()
}

// FuzzDecode reads any text, and never fails but by an error.
func FuzzDecode(f *testing.F) {
	f.Add(OneEvent, single)
	f.Add(ManyEvents, "["+single+"]")
	f.Add("", `{"specversion":"1.0","id":"1","source":"s","type":"t","data":{"objects":["x"],"bucket":"b","key":"k"}}`)
	f.Fuzz(func(t *testing.T, kind, text string) {
		list, err := Decode(kind, []byte(text))
		if err != nil && list != nil {
			t.Error("events and an error")
		}
		for _, e := range list {
			e.Objects()
			again, err := Encode(e)
			if err != nil {
				t.Fatal(err)
			}
			if back, err := Decode(OneEvent, again); err != nil || back[0].ID != e.ID {
				t.Errorf("%s: %v", again, err)
			}
		}
	})
}
