package sandbox

import (
	"html"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Trouble is what goes wrong with a store. Each is off where it is zero.
type Trouble struct {
	// Latency is how long each answer takes.
	Latency time.Duration
	// Throttle refuses one request of so many, with the status 503.
	Throttle int
	// Cut ends the connection of an answer after so many bytes; CutEvery does so for one of so many answers, 0 for all.
	Cut      int64
	CutEvery int
	// Lose carries out one write of so many, and loses the answer.
	Lose int
	// Stale leaves objects out of listings for so long after they were written.
	Stale time.Duration
	// Expired refuses all requests, as from one whose credentials have expired.
	Expired bool
	// Guard has the catalog want tokens, and the store keys that the catalog gave, which hold for so long.
	Guard time.Duration
}

// troubles makes trouble, regularly.
type troubles struct {
	Trouble
	mutex                     sync.Mutex
	requests, writes, answers int
	written                   map[string]time.Time
}

func newTroubles(t Trouble) *troubles { return &troubles{Trouble: t, written: map[string]time.Time{}} }

// serve has a request answered, unless there is trouble.
func (t *troubles) serve(w http.ResponseWriter, r *http.Request, answer http.Handler) {
	time.Sleep(t.Latency)
	switch write := r.Method == http.MethodPut || r.Method == http.MethodPost; {
	case t.Expired:
		refuse(w, http.StatusBadRequest, "ExpiredToken", "the token has expired")
	case t.due(&t.requests, t.Throttle):
		refuse(w, http.StatusServiceUnavailable, "SlowDown", "reduce your request rate")
	case write && t.due(&t.writes, t.Lose):
		answer.ServeHTTP(httptest.NewRecorder(), r)
		hangUp(w)
	case write:
		answer.ServeHTTP(w, r)
		t.note(r)
	case t.Stale > 0 && r.URL.Query().Get("list-type") != "":
		t.list(w, r, answer)
	case t.Cut > 0 && r.Method == http.MethodGet && r.URL.Query().Get("list-type") == "" && t.due(&t.answers, max(1, t.CutEvery)):
		answer.ServeHTTP(&cutter{ResponseWriter: w, left: t.Cut}, r)
	default:
		answer.ServeHTTP(w, r)
	}
}

// due counts up to a number, and reports whether it was reached.
func (t *troubles) due(counter *int, every int) bool {
	if every <= 0 {
		return false
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	*counter++
	return *counter%every == 0
}

// note remembers when an object was written.
func (t *troubles) note(r *http.Request) {
	if t.Stale <= 0 {
		return
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.written[r.URL.Path] = time.Now()
}

// list leaves out of a listing what was written a short while ago.
func (t *troubles) list(w http.ResponseWriter, r *http.Request, answer http.Handler) {
	whole := httptest.NewRecorder()
	answer.ServeHTTP(whole, r)
	bucket := strings.Trim(r.URL.Path, "/")
	text := contents.ReplaceAllStringFunc(whole.Body.String(), func(entry string) string {
		t.mutex.Lock()
		defer t.mutex.Unlock()
		key := html.UnescapeString(contents.FindStringSubmatch(entry)[1])
		if at, ok := t.written["/"+bucket+"/"+key]; ok && time.Since(at) <= t.Stale {
			return ""
		}
		return entry
	})
	for name, values := range whole.Header() {
		w.Header()[name] = values
	}
	w.Header().Del("Content-Length")
	w.WriteHeader(whole.Code)
	// Whoever asked may have gone.
	_, _ = io.WriteString(w, text)
}

// contents is an object in a listing, with its key.
var contents = regexp.MustCompile(`(?s)<Contents>\s*<Key>(.*?)</Key>.*?</Contents>`)

// cutter ends the connection after some bytes of an answer.
type cutter struct {
	http.ResponseWriter
	left int64
}

func (c *cutter) Write(b []byte) (int, error) {
	if int64(len(b)) <= c.left {
		c.left -= int64(len(b))
		return c.ResponseWriter.Write(b)
	}
	// What was sent before shall arrive.
	_, _ = c.ResponseWriter.Write(b[:c.left])
	if f, ok := c.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
	hangUp(c.ResponseWriter)
	return 0, http.ErrAbortHandler
}

// hangUp ends a connection without an answer.
func hangUp(http.ResponseWriter) { panic(http.ErrAbortHandler) }
