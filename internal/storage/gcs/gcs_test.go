package gcs

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"trevak/internal/storage"
	"trevak/internal/storage/storagetest"
)

func reach(endpoint string) storage.Stores {
	return storage.Stores{Scheme: New(Options{Patience: 5 * time.Second, Of: func(string) (Settings, error) {
		return Settings{Endpoint: endpoint, Anonymous: true}, nil
	}})}
}

// TestStoreKeepsPromises holds the store against a server that stands in for the service, whose address the environment names;
// test/away/servers starts one.
func TestStoreKeepsPromises(t *testing.T) {
	address := os.Getenv("TREVAK_TEST_GCS")
	if address == "" {
		t.Skip("TREVAK_TEST_GCS names no server; test/away/servers starts one")
	}
	name := fmt.Sprintf("harbour-%d", time.Now().UnixNano())
	made, err := http.Post(address+"/storage/v1/b?project=orrin", "application/json", strings.NewReader(`{"name":"`+name+`"}`))
	if err != nil || made.StatusCode != http.StatusOK {
		t.Fatal(made, err)
	}
	made.Body.Close()
	s := reach(address)
	storagetest.Hold(t, s, "gs://"+name+"/a")
	storagetest.Large(t, s, "gs://"+name+"/b")
	if _, err := s.Stat(t.Context(), "gs://nowhere-at-all/a.csv"); err == nil {
		t.Error("a bucket that is not there")
	}
}

// TestUploadsGoOn sends an object to a server that takes a part of each request, breaks off, and loses answers.
func TestUploadsGoOn(t *testing.T) {
	var taken []byte
	var requests atomic.Int64
	done := false
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := requests.Add(1)
		switch {
		case r.Method == http.MethodPost:
			w.Header().Set("Location", "http://"+r.Host+"/session")
			return
		case r.Method == http.MethodGet:
			fmt.Fprintf(w, `{"name":"a.bin","size":"%d","generation":"7"}`, len(taken))
			return
		}
		body, _ := io.ReadAll(r.Body)
		piece := r.Header.Get("Content-Range")
		var from, to, whole int64
		if _, err := fmt.Sscanf(piece, "bytes %d-%d/", &from, &to); err == nil {
			if from > int64(len(taken)) || to-from+1 != int64(len(body)) {
				t.Errorf("%s with %d bytes, after %d", piece, len(body), len(taken))
			}
			// Only whole units are kept of a part that is not the last.
			keep := taken[:from:from]
			keep = append(keep, body...)
			if strings.HasSuffix(piece, "/*") {
				keep = keep[:len(keep)/(256<<10)*(256<<10)]
			}
			if n%3 == 0 {
				keep = keep[:max(from, int64(len(keep))-1<<20)]
			}
			taken = keep
		}
		_, after, _ := strings.Cut(piece, "/")
		fmt.Sscan(after, &whole)
		if done = after != "*" && int64(len(taken)) == whole; done {
			if n%2 == 0 {
				// The answer is lost.
				panic(http.ErrAbortHandler)
			}
			return
		}
		if n%4 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if len(taken) > 0 {
			w.Header().Set("Range", fmt.Sprintf("bytes=0-%d", len(taken)-1))
		}
		w.WriteHeader(statusGoOn)
	}))
	defer server.Close()
	s := reach(server.URL)
	want := bytes.Repeat([]byte("tides and winds "), 2_000_001)
	if err := storage.WriteAll(t.Context(), s, "gs://orrin/a.bin", want, storage.Creation{Mode: storage.Replace}); err != nil {
		t.Fatal(err)
	}
	if !done || !bytes.Equal(taken, want) {
		t.Errorf("%d bytes arrived of %d, ended: %v", len(taken), len(want), done)
	}
}

func TestExplains(t *testing.T) {
	for text, want := range map[string]string{
		`401|{"error":{"message":"Invalid Credentials"}}`:                                 "does not accept who asks (Invalid Credentials)",
		`403|{"error":{"message":"no access","errors":[{"reason":"forbidden"}]}}`:         "the right storage.objects.get is missing",
		`404|{"error":{"message":"The specified bucket does not exist."}}`:                "there is no bucket orrin",
		`404|{"error":{"message":"No such object: orrin/a.csv"}}`:                         "file does not exist",
		`400|{"error":{"message":"Invalid argument","errors":[{"reason":"invalidArg"}]}}`: "the store answers 400 (Invalid argument)",
		`412|{}`: "another version",
	} {
		status, body, _ := strings.Cut(text, "|")
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			code := 0
			fmt.Sscan(status, &code)
			w.WriteHeader(code)
			io.WriteString(w, body)
		}))
		b, key, err := New(Options{Of: func(string) (Settings, error) {
			return Settings{Endpoint: server.URL, Anonymous: true}, nil
		}}), "gs://orrin/a.csv", error(nil)
		_, err = b.Stat(t.Context(), key)
		server.Close()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
	if _, _, err := (&servers{}).locate("gs://Or/a.csv"); err == nil {
		t.Error("a name that no bucket has")
	}
}
