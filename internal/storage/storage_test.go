package storage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/fault"
)

// writable are the stores that can be written to, each with an empty folder in it.
func writable(t *testing.T) map[string]struct {
	store Store
	home  string
} {
	memory := NewMemory()
	return map[string]struct {
		store Store
		home  string
	}{
		"disk":             {Disk{}, t.TempDir()},
		"disk by file URL": {Stores{"": Disk{}}, "file://" + filepath.ToSlash(t.TempDir())},
		"memory":           {memory, "mem://harbour/a"},
		"memory of many":   {Stores{"": Disk{}, "mem": memory}, "mem://harbour/b"},
	}
}

func mustWrite(t testing.TB, s Store, uri, text string) {
	t.Helper()
	if err := WriteAll(t.Context(), s, uri, []byte(text), Creation{Mode: Replace, Durable: true}); err != nil {
		t.Fatal(err)
	}
}

func names(t testing.TB, s Store, folder string) string {
	t.Helper()
	entries, err := s.List(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, e := range entries {
		out = append(out, fmt.Sprintf("%s:%d", e.Name, e.Kind))
	}
	return strings.Join(out, " ")
}

// TestStagesShowAllAtOnce stages a folder and a single object in each store.
func TestStagesShowAllAtOnce(t *testing.T) {
	for name, on := range writable(t) {
		for _, path := range []string{"", "area=1/00001.parquet"} {
			place := Join(on.home, "out"+fmt.Sprint(len(path)))
			object := place
			if path != "" {
				object = Join(place, path)
			}
			refused := errors.New("refused")
			stage := stagedWith(t, on.store, place, path, "new")
			if Exists(t.Context(), on.store, object) {
				t.Errorf("%s: shown before it is published", name)
			}
			if err := stage.Publish(t.Context(), func() error { return refused }); !errors.Is(err, refused) ||
				Exists(t.Context(), on.store, object) {
				t.Errorf("%s: %v", name, err)
			}
			if err := stage.Publish(t.Context(), may); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if text, err := ReadAll(t.Context(), on.store, object); string(text) != "new" || err != nil {
				t.Errorf("%s: %q, %v", name, text, err)
			}
			if err := stagedWith(t, on.store, place, path, "given up").Discard(t.Context()); err != nil {
				t.Error(err)
			}
			if text, err := ReadAll(t.Context(), on.store, object); string(text) != "new" || err != nil {
				t.Errorf("%s: %q, %v", name, text, err)
			}
		}
	}
}

func TestLocksExclude(t *testing.T) {
	for name, on := range writable(t) {
		uri := Join(on.home, "lock")
		release, err := Lock(t.Context(), on.store, uri, true)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Lock(t.Context(), on.store, uri, false); !errors.Is(err, ErrLocked) {
			t.Errorf("%s: locked twice: %v", name, err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		if _, err := Lock(ctx, on.store, uri, true); !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("%s: waiting in vain: %v", name, err)
		}
		cancel()
		release()
		if release, err = Lock(t.Context(), on.store, uri, false); err != nil {
			t.Errorf("%s: after it was released: %v", name, err)
		} else {
			release()
		}
	}
}

// TestRangesBehindURLs reads pieces of an object behind a URL, before and after it changed, and of a server that gives no pieces.
func TestRangesBehindURLs(t *testing.T) {
	text, tag := strings.Repeat("some text to fetch\n", 1000), `"v1"`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/whole" {
			w.Header().Set("ETag", tag)
			w.Header().Set("Content-Length", fmt.Sprint(len(text)))
			io.WriteString(w, text)
			return
		}
		w.Header().Set("ETag", tag)
		http.ServeContent(w, r, "x.csv", time.Time{}, strings.NewReader(text))
	}))
	defer server.Close()
	s := Standard(Web{Pause: time.Millisecond})
	o, err := s.Stat(t.Context(), server.URL+"/x")
	if err != nil || o.Size != int64(len(text)) || o.Tag != tag {
		t.Fatal(o, err)
	}
	f, err := s.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	piece := make([]byte, 40)
	for _, at := range []int{0, 7, len(text) - 40} {
		if n, err := f.ReadAt(piece, int64(at)); n != 40 || err != nil || string(piece) != text[at:at+40] {
			t.Errorf("at %d: %q, %v", at, piece[:n], err)
		}
	}
	if n, err := f.ReadAt(piece, int64(len(text)-5)); n != 5 || !errors.Is(err, io.EOF) {
		t.Errorf("over the end: %d, %v", n, err)
	}
	tag = `"v2"`
	if _, err := f.ReadAt(piece, 0); !errors.Is(err, ErrChanged) {
		t.Errorf("of another version: %v", err)
	}
	whole, err := s.Stat(t.Context(), server.URL+"/whole")
	if err != nil {
		t.Fatal(err)
	}
	if f, err = s.Open(t.Context(), whole); err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.ReadAt(piece, 10); err == nil {
		t.Error("a server without ranges gives one")
	}
	for _, err := range []error{s.Remove(t.Context(), o.URI), WriteAll(t.Context(), s, o.URI, nil, Creation{})} {
		if !errors.Is(err, errors.ErrUnsupported) {
			t.Errorf("what can only be read: %v", err)
		}
	}
}

func TestURIs(t *testing.T) {
	for _, test := range []struct{ uri, scheme, dir, base, joined string }{
		{"in/a.csv", "", "in", "a.csv", "in/a.csv/x/y"},
		{"/in/a.csv", "", "/in", "a.csv", "/in/a.csv/x/y"},
		{"mem://harbour/in/a.csv", "mem", "mem://harbour/in", "a.csv", "mem://harbour/in/a.csv/x/y"},
		{"mem://harbour/a.csv", "mem", "mem://harbour", "a.csv", "mem://harbour/a.csv/x/y"},
		{"mem://harbour", "mem", "mem://harbour", "harbour", "mem://harbour/x/y"},
	} {
		got := fmt.Sprint(Scheme(test.uri), " ", Dir(test.uri), " ", Base(test.uri), " ", Join(test.uri, "x", "y"))
		if want := fmt.Sprint(test.scheme, " ", test.dir, " ", test.base, " ", test.joined); filepath.ToSlash(got) != want {
			t.Errorf("%s: %s, want %s", test.uri, got, want)
		}
	}
	if got := Path("file:///in/a%20b.csv"); filepath.ToSlash(got) != "/in/a b.csv" {
		t.Errorf("%s", got)
	}
	for _, test := range []struct {
		folder, uri, rel string
		ok               bool
	}{{"/in", "/in/a", "a", true}, {"/in", "/inn/a", "", false}, {"/in", "/in", ".", true}, {"mem://h/in", "mem://h/in/a/b", "a/b", true},
		{"mem://h/in", "mem://h/inn", "", false},
		{"/", "/a", "a", true}, {"/in", "mem://in/a", "", false}} {
		if rel, ok := Rel(test.folder, test.uri); ok != test.ok || ok && rel != test.rel {
			t.Errorf("from %s to %s: %q, %v", test.folder, test.uri, rel, ok)
		}
	}
}

// TestScratchFilesHaveNoName looks for the temporary file in its folder.
func TestScratchFilesHaveNoName(t *testing.T) {
	dir := t.TempDir()
	s, err := NewScratch(dir)
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(s, "rows")
	if entries, err := os.ReadDir(dir); err != nil || len(entries) > 0 && !s.named {
		t.Errorf("%v, %v", entries, err)
	}
	piece := make([]byte, 2)
	if _, err := s.ReadAt(piece, 2); err != nil || string(piece) != "ws" {
		t.Errorf("%q, %v", piece, err)
	}
	if err := s.Close(); err != nil {
		t.Error(err)
	}
}

func TestUnknownSchemes(t *testing.T) {
	s := Stores{"": Disk{}}
	if _, err := s.Stat(t.Context(), "moon://a/b"); fault.KindOf(err) != fault.Usage || !strings.Contains(err.Error(), "moon") {
		t.Errorf("%v", err)
	}
}
