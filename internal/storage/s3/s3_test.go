package s3_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"trevak/internal/fault"
	"trevak/internal/sandbox"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
	"trevak/internal/storage/s3"
	"trevak/internal/storage/storagetest"
)

// sandboxed serves a store with troubles, and returns it as its users reach it, with a count of requests.
func sandboxed(t testing.TB, dir string, trouble sandbox.Trouble) (*remote.Store, *counted) {
	t.Helper()
	t.Setenv("AWS_ACCESS_KEY_ID", "harbour")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "not-a-secret")
	served, err := sandbox.New(dir, trouble)
	if err != nil {
		t.Fatal(err)
	}
	c := &counted{of: served, by: map[string]int{}}
	server := httptest.NewServer(c)
	t.Cleanup(server.Close)
	return reach(server.URL), c
}

func reach(endpoint string) *remote.Store {
	return s3.New(s3.Options{Patience: 5 * time.Second, Of: func(string) (s3.Settings, error) {
		return s3.Settings{Endpoint: endpoint, Region: "us-east-1", PathStyle: true}, nil
	}})
}

// counted counts requests by their method.
type counted struct {
	of    http.Handler
	mutex sync.Mutex
	by    map[string]int
}

func (c *counted) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mutex.Lock()
	c.by[r.Method]++
	c.mutex.Unlock()
	c.of.ServeHTTP(w, r)
}

func (c *counted) count(method string) int {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.by[method]
}

func TestStoreKeepsPromises(t *testing.T) {
	for _, dir := range []string{"", t.TempDir()} {
		s, _ := sandboxed(t, dir, sandbox.Trouble{})
		storagetest.Hold(t, storage.Stores{"s3": s}, "s3://orrin/a")
	}
}

// TestStoreInTrouble does what the promises are about in a store that refuses, cuts off and loses answers.
func TestStoreInTrouble(t *testing.T) {
	s, _ := sandboxed(t, "", sandbox.Trouble{Throttle: 5, Lose: 3, Cut: 100, CutEvery: 3})
	storagetest.Hold(t, storage.Stores{"s3": s}, "s3://orrin/a")
}

// TestLargeObjects writes and reads objects of many parts, whole and in pieces, with connections that are cut off.
func TestLargeObjects(t *testing.T) {
	s, _ := sandboxed(t, "", sandbox.Trouble{Throttle: 7, Lose: 4, Cut: 1_000_000, CutEvery: 2})
	storagetest.Large(t, storage.Stores{"s3": s}, "s3://orrin/a")
}

// TestOneOfManyWritersWins has many writers create one object at once, in a store that loses answers.
func TestOneOfManyWritersWins(t *testing.T) {
	s, _ := sandboxed(t, "", sandbox.Trouble{Lose: 2, Throttle: 9})
	for round := range 5 {
		uri := fmt.Sprintf("s3://orrin/v%d.metadata.json", round)
		var won []string
		var mutex sync.Mutex
		var running sync.WaitGroup
		for i := range 8 {
			running.Go(func() {
				text := fmt.Sprint("writer ", i)
				err := storage.WriteAll(t.Context(), s, uri, []byte(text), storage.Creation{})
				mutex.Lock()
				defer mutex.Unlock()
				if err == nil {
					won = append(won, text)
				} else if !errors.Is(err, fs.ErrExist) {
					t.Errorf("round %d: %v", round, err)
				}
			})
		}
		running.Wait()
		text, err := storage.ReadAll(t.Context(), s, uri)
		if err != nil || len(won) != 1 || won[0] != string(text) {
			t.Fatalf("round %d: %v believe they made it; it is of %q, %v", round, won, text, err)
		}
	}
}

// TestListingsNeedNoRequestForEachObject lists many objects, flat and by pattern.
func TestListingsNeedNoRequestForEachObject(t *testing.T) {
	s, counts := sandboxed(t, t.TempDir(), sandbox.Trouble{})
	all := storage.Stores{"s3": s}
	const objects = 2300
	var running sync.WaitGroup
	for part := range 8 {
		running.Go(func() {
			for i := part; i < objects; i += 8 {
				uri := fmt.Sprintf("s3://orrin/raw/day=%d/part-%04d.csv", i%3, i)
				if err := storage.WriteAll(t.Context(), s, uri, []byte(strings.Repeat("x", i%7)), storage.Creation{Mode: storage.Replace}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	running.Wait()
	before := counts.count(http.MethodGet) + counts.count(http.MethodHead)
	matches, folder, err := storage.Glob(t.Context(), all, "s3://orrin/raw/day=*/part-0*.csv")
	if err != nil || folder != "s3://orrin/raw" || len(matches) != 1000 || matches[0].Listed == nil || matches[5].Listed.Tag == "" {
		t.Fatalf("%d matches in %s, %v", len(matches), folder, err)
	}
	last := ""
	seen := 0
	if err := s.Below(t.Context(), "s3://orrin/raw/", func(e storage.Entry) error {
		if seen++; e.URI <= last {
			t.Errorf("%s comes after %s", e.URI, last)
		}
		last = e.URI
		return nil
	}); err != nil || seen != objects {
		t.Fatalf("%d objects, %v", seen, err)
	}
	if asked := counts.count(http.MethodGet) + counts.count(http.MethodHead) - before; asked > 12 {
		t.Errorf("%d requests for two listings of %d objects", asked, objects)
	}
}

// TestRefusalsNameTheRight has requests refused, and looks for what the errors say.
func TestRefusalsNameTheRight(t *testing.T) {
	code, status := "AccessDenied", http.StatusForbidden
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/xml")
		w.WriteHeader(status)
		fmt.Fprintf(w, "<Error><Code>%s</Code><Message>no</Message></Error>", code)
	}))
	defer server.Close()
	t.Setenv("AWS_ACCESS_KEY_ID", "harbour")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "keep-this-to-yourself")
	for _, test := range []struct {
		code   string
		status int
		words  []string
	}{
		{"AccessDenied", http.StatusForbidden, []string{"s3:ListBucket", "the environment", "bucket orrin"}},
		{"ExpiredToken", http.StatusBadRequest, []string{"ExpiredToken", "the environment", "renew"}},
		{"NoSuchBucket", http.StatusNotFound, []string{"no bucket orrin", server.URL}},
	} {
		code, status = test.code, test.status
		_, err := reach(server.URL).List(t.Context(), "s3://orrin/raw")
		if err == nil || fault.KindOf(err) != fault.Storage || strings.Contains(err.Error(), "keep-this") {
			t.Errorf("%s: %v", test.code, err)
			continue
		}
		for _, word := range test.words {
			if !strings.Contains(err.Error(), word) {
				t.Errorf("%s: %q is not in: %v", test.code, word, err)
			}
		}
	}
}

// TestUploadsThatWereLeftAreGivenUp leaves an upload as a killed run does.
func TestUploadsThatWereLeftAreGivenUp(t *testing.T) {
	s, _ := sandboxed(t, "", sandbox.Trouble{})
	w, err := s.Create(t.Context(), "s3://orrin/wh/data/00001.parquet", storage.Creation{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write(make([]byte, 9<<20)); err != nil {
		t.Fatal(err)
	}
	left, err := s.Leftovers(t.Context(), "s3://orrin/wh", time.Now().Add(-time.Hour), true)
	if err != nil || len(left) != 0 {
		t.Fatalf("of an upload that is young: %v, %v", left, err)
	}
	left, err = s.Leftovers(t.Context(), "s3://orrin/wh", time.Now().Add(time.Hour), true)
	if err != nil || len(left) != 1 || left[0].Path != "s3://orrin/wh/data/00001.parquet" {
		t.Fatalf("%v, %v", left, err)
	}
	if err := w.Commit(); err == nil {
		t.Error("an upload that was given up can be completed")
	}
}

// TestPartsWaitInFilesWhereMemoryIsShort writes several objects at once with room for hardly any of their parts.
func TestPartsWaitInFilesWhereMemoryIsShort(t *testing.T) {
	_, c := sandboxed(t, "", sandbox.Trouble{})
	server := httptest.NewServer(c)
	defer server.Close()
	s := s3.New(s3.Options{Memory: 1 << 20, Of: func(string) (s3.Settings, error) {
		return s3.Settings{Endpoint: server.URL, Region: "us-east-1", PathStyle: true}, nil
	}})
	var running sync.WaitGroup
	for i := range 4 {
		running.Go(func() {
			uri, text := fmt.Sprintf("s3://orrin/%d.csv", i), bytes.Repeat([]byte(fmt.Sprintf("row %d\n", i)), 2<<20)
			if err := storage.WriteAll(t.Context(), s, uri, text, storage.Creation{}); err != nil {
				t.Error(err)
				return
			}
			if got, err := storage.ReadAll(t.Context(), s, uri); err != nil || !bytes.Equal(got, text) {
				t.Errorf("%d bytes of %d, %v", len(got), len(text), err)
			}
		})
	}
	running.Wait()
}

// TestStoresThatReplaceAreFoundOut asks a store that keeps the promise, and one that does not look at the condition.
func TestStoresThatReplaceAreFoundOut(t *testing.T) {
	s, c := sandboxed(t, "", sandbox.Trouble{})
	for range 2 {
		if err := s.ProveExclusive(t.Context(), "s3://orrin/wh/.commit.lock"); err != nil {
			t.Fatal(err)
		}
	}
	if puts := c.count(http.MethodPut); puts != 2 {
		t.Errorf("%d requests to prove it once", puts)
	}
	careless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Header.Del("If-None-Match")
		c.ServeHTTP(w, r)
	}))
	defer careless.Close()
	err := reach(careless.URL).ProveExclusive(t.Context(), "s3://orrin/other/.commit.lock")
	if fault.KindOf(err) != fault.Storage || !strings.Contains(err.Error(), "conditional writes") {
		t.Errorf("a store that does not look at the condition: %v", err)
	}
}

// TestPiecesThatFollowEachOtherAreFetchedTogether reads a large object page by page, at several places in turn, and single pages of it.
func TestPiecesThatFollowEachOtherAreFetchedTogether(t *testing.T) {
	s, counts := sandboxed(t, "", sandbox.Trouble{})
	random := rand.New(rand.NewPCG(8, 8))
	want := make([]byte, 6<<20)
	for i := range want {
		want[i] = byte(random.Uint32())
	}
	if err := storage.WriteAll(t.Context(), s, "s3://orrin/columns.bin", want, storage.Creation{}); err != nil {
		t.Fatal(err)
	}
	o, err := s.Stat(t.Context(), "s3://orrin/columns.bin")
	if err != nil {
		t.Fatal(err)
	}
	f, err := s.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	before := counts.count(http.MethodGet)
	var running sync.WaitGroup
	for column := range 3 {
		running.Go(func() {
			piece := make([]byte, 20<<10)
			for at := column << 21; at < (column+1)<<21; {
				n := 1 + rand.IntN(len(piece))
				n = min(n, (column+1)<<21-at)
				if read, err := f.ReadAt(piece[:n], int64(at)); err != nil || !bytes.Equal(piece[:read], want[at:at+n]) {
					t.Errorf("column %d, %d bytes at %d: %d, %v", column, n, at, read, err)
					return
				}
				at += n
			}
		})
	}
	running.Wait()
	if asked := counts.count(http.MethodGet) - before; asked > 60 {
		t.Errorf("%d requests for 6 MiB in pages of about 10 kB", asked)
	}
	before = counts.count(http.MethodGet)
	piece := make([]byte, 100)
	for i := range 10 {
		at := 300<<10 + i*500<<10 + 7
		if _, err := f.ReadAt(piece, int64(at)); err != nil || !bytes.Equal(piece, want[at:at+100]) {
			t.Errorf("a page at %d: %v", at, err)
		}
	}
	if asked := counts.count(http.MethodGet) - before; asked > 10 {
		t.Errorf("%d requests for 10 pages", asked)
	}
}

// TestVeryManyObjectsWaitTogether stages more objects than a program may have files open, with memory for few of them.
func TestVeryManyObjectsWaitTogether(t *testing.T) {
	_, c := sandboxed(t, "", sandbox.Trouble{})
	server := httptest.NewServer(c)
	defer server.Close()
	s := s3.New(s3.Options{Memory: 256 << 10, Of: func(string) (s3.Settings, error) {
		return s3.Settings{Endpoint: server.URL, Region: "us-east-1", PathStyle: true}, nil
	}})
	stage, err := storage.NewStage(t.Context(), storage.Stores{"s3": s}, "s3://orrin/out")
	if err != nil {
		t.Fatal(err)
	}
	const objects = 400
	for i := range objects {
		w, err := stage.Create(t.Context(), fmt.Sprintf("part=%d/0.csv", i))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(w, "id\n%d\n", i)
		if err := w.Commit(); err != nil {
			t.Fatal(err)
		}
	}
	if open, err := os.ReadDir("/proc/self/fd"); err == nil && len(open) > 200 {
		t.Errorf("%d files are open", len(open))
	}
	if err := stage.Publish(t.Context(), func() error { return nil }); err != nil {
		t.Fatal(err)
	}
	for _, i := range []int{0, 7, objects - 1} {
		if text, err := storage.ReadAll(t.Context(), s, fmt.Sprintf("s3://orrin/out/part=%d/0.csv", i)); string(text) != fmt.Sprintf("id\n%d\n", i) {
			t.Errorf("%d: %q, %v", i, text, err)
		}
	}
}
