// Package sandbox is a small store of objects that speaks the S3 protocol over a folder, and a catalog of tables in it that speaks
// Iceberg's REST protocol, for demos and tests. They can be made to have the troubles which large ones have.
//
// What comes in are a folder and the troubles; what goes out is a handler of HTTP requests.
package sandbox

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"trevak/internal/fault"
)

// Sandbox is a store that is served.
type Sandbox struct {
	objects http.Handler
	tables  *catalog // nil in memory
	guard   *guard   // nil for anybody
	trouble *troubles
	// buckets are those that are known to be there.
	buckets sync.Map
	// writes keeps what is asked for on a condition from being overtaken.
	writes sync.Mutex
}

// New serves a folder, which is made where it is missing, or memory where it is empty. Buckets are made when they are first named.
func New(dir string, t Trouble) (*Sandbox, error) {
	var backend gofakes3.Backend
	var tables *catalog
	if dir == "" {
		backend = s3mem.New()
	} else {
		files, err := openFolder(dir)
		if err == nil {
			backend = files
			tables, err = openCatalog(files)
		}
		if err != nil {
			return nil, fault.Wrap(fault.Storage, err, "the folder %s cannot be served", dir)
		}
	}
	server := gofakes3.New(backend, gofakes3.WithAutoBucket(true), gofakes3.WithLogger(gofakes3.DiscardLog()), gofakes3.WithTimeSkewLimit(0))
	s := &Sandbox{objects: server.Server(), tables: tables, trouble: newTroubles(t)}
	if t.Guard > 0 {
		s.guard = &guard{holds: t.Guard, known: map[string]time.Time{}}
		if tables != nil {
			tables.guard = s.guard
		}
	}
	return s, nil
}

// ServeHTTP answers a request, with the troubles that were asked for.
func (s *Sandbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.trouble.serve(w, r, http.HandlerFunc(s.answer))
}

// answer answers a request as a store does, conditions included, of which the library does not know all.
func (s *Sandbox) answer(w http.ResponseWriter, r *http.Request) {
	if s.tables != nil && strings.HasPrefix(r.URL.Path, "/v1/") {
		s.tables.ServeHTTP(w, r)
		return
	}
	if s.guard != nil && !s.guard.signed(r) {
		refuse(w, http.StatusForbidden, "InvalidAccessKeyId", "the key is not known, or has ended")
		return
	}
	s.makeBucket(r)
	switch r.Method {
	case http.MethodGet:
		if wanted := r.Header.Get("If-Match"); wanted != "" && !strings.Contains(wanted, s.tag(r)) {
			refuse(w, http.StatusPreconditionFailed, "PreconditionFailed", "the object is another")
			return
		}
	case http.MethodPut, http.MethodPost:
		s.writes.Lock()
		defer s.writes.Unlock()
		if r.Header.Get("If-None-Match") == "*" && s.tag(r) != "" {
			refuse(w, http.StatusPreconditionFailed, "PreconditionFailed", "the object is there already")
			return
		}
	}
	s.objects.ServeHTTP(w, r)
}

// makeBucket makes the bucket that a request names, where it is not there.
func (s *Sandbox) makeBucket(r *http.Request) {
	bucket, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if bucket == "" {
		return
	}
	if _, known := s.buckets.LoadOrStore(bucket, true); known {
		return
	}
	if put, err := http.NewRequestWithContext(r.Context(), http.MethodPut, "/"+bucket, nil); err == nil {
		// One that is there already stays as it is.
		s.objects.ServeHTTP(httptest.NewRecorder(), put)
	}
}

// tag returns the ETag of the object that a request is for, empty where there is none.
func (s *Sandbox) tag(r *http.Request) string {
	head, err := http.NewRequestWithContext(r.Context(), http.MethodHead, r.URL.Path, nil)
	if err != nil {
		return ""
	}
	head.Host = r.Host
	answer := httptest.NewRecorder()
	s.objects.ServeHTTP(answer, head)
	if answer.Code != http.StatusOK {
		return ""
	}
	return answer.Header().Get("ETag")
}

// refuse answers with an error as the protocol has it.
func refuse(w http.ResponseWriter, status int, code, message string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, "<?xml version=\"1.0\" encoding=\"UTF-8\"?><Error><Code>%s</Code><Message>%s</Message></Error>", code, message)
}
