// Package gcs is the stores of Google Cloud Storage, by its JSON protocol.
//
// What comes in are URIs like gs://bucket/key, and how the store of each is reached; what goes out are objects, files and writers as
// package remote makes them of single requests. The protocol's own library is not used: the few requests here are a fiftieth of it.
package gcs

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/google"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
	"trevak/internal/storage/vended"
)

// Scheme is that of the URIs that lead here.
const Scheme = "gs"

// Settings say how a store is reached. What is left out is the service's usual.
type Settings struct {
	// Endpoint is the URL of the server, empty for the service's own.
	Endpoint string
	// Anonymous sends no token.
	Anonymous bool
	// Proxy is the URL of a proxy, and CA a file of certificates, as package remote has them.
	Proxy, CA string
	// FromFile says that the environment names a file of credentials, which is told in errors.
	FromFile bool
	// given is the token that a catalog gave.
	given string
}

// Options are how stores are used.
type Options struct {
	// Of returns how the store of a URI is reached.
	Of func(uri string) (Settings, error)
	// Vault holds what catalogs gave for the files of their tables; it may be nil.
	Vault *vended.Vault
	// Patience is how long a server may be silent, 0 for storage.DefaultPatience.
	Patience time.Duration
	// Memory is how many bytes of uploads wait in memory, 0 for the usual.
	Memory int64
}

// servers are those that were asked.
type servers struct {
	options Options
	mutex   sync.Mutex
	by      map[Settings]*server
}

// New makes the stores. No request is sent.
func New(o Options) *remote.Store {
	if o.Of == nil {
		o.Of = func(string) (Settings, error) { return Settings{}, nil }
	}
	s := &servers{options: o, by: map[Settings]*server{}}
	return remote.New(remote.Options{Locate: s.locate, Patience: o.Patience, Memory: o.Memory})
}

// locate takes a URI apart and returns its bucket.
func (s *servers) locate(uri string) (remote.Bucket, string, error) {
	_, rest, _ := strings.Cut(uri, "://")
	name, key, _ := strings.Cut(rest, "/")
	if len(name) < 3 || len(name) > 222 || strings.ContainsFunc(name, func(r rune) bool {
		return !strings.ContainsRune("-_.", r) && (r < '0' || r > '9') && (r < 'a' || r > 'z')
	}) {
		return nil, "", fault.New(fault.Usage, "%q names no bucket", storage.Shown(uri)).Try("write it like gs://bucket/folder/file.csv")
	}
	settings, err := s.options.Of(uri)
	if err != nil {
		return nil, "", err
	}
	if s.options.Vault != nil {
		if g, ok := s.options.Vault.For(uri); ok {
			settings.given = g.Properties["gcs.oauth2.token"]
			settings.Endpoint = cmp.Or(g.Properties["gcs.service.host"], settings.Endpoint)
		}
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	of := s.by[settings]
	if of == nil {
		if of, err = s.connect(settings); err != nil {
			return nil, "", err
		}
		s.by[settings] = of
	}
	return bucket{server: of, name: name}, key, nil
}

// server is what requests are sent to.
type server struct {
	client  *http.Client
	address string // without a slash at its end
	tokens  *tokens
}

// connect prepares to send requests; the first of them connects.
func (s *servers) connect(settings Settings) (*server, error) {
	transport, err := remote.Way{Proxy: settings.Proxy, CA: settings.CA, Patience: s.options.Patience}.Transport()
	if err != nil {
		return nil, err
	}
	out := &server{client: &http.Client{Transport: transport}, address: "https://storage.googleapis.com"}
	out.tokens = &tokens{client: out.client, kind: "sent with the platform's credentials"}
	if settings.FromFile {
		out.tokens.kind = "sent with the credentials of the file that GOOGLE_APPLICATION_CREDENTIALS names"
	}
	if settings.Endpoint != "" {
		u, err := url.Parse(settings.Endpoint)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, fault.New(fault.Usage, "%q is no address of a store", storage.Shown(settings.Endpoint)).
				Try("write it like https://store.example")
		}
		out.address = strings.TrimRight(settings.Endpoint, "/")
	}
	if settings.given != "" {
		out.tokens = &tokens{kind: "sent with the token that the catalog gave",
			source: oauth2.StaticTokenSource(&oauth2.Token{AccessToken: settings.given})}
	} else if settings.Anonymous {
		out.tokens = &tokens{kind: "sent without a token, as is stated for it", anonymous: true}
	}
	return out, nil
}

// tokens gives requests what says who asks: by a file that GOOGLE_APPLICATION_CREDENTIALS names, by the login of the cloud's command
// line, or by the machine's own account.
type tokens struct {
	client    *http.Client
	kind      string
	anonymous bool
	mutex     sync.Mutex
	source    oauth2.TokenSource
}

// scope is what tokens are asked for.
const scope = "https://www.googleapis.com/auth/devstorage.read_write"

// sign adds the token to a request.
func (t *tokens) sign(ctx context.Context, r *http.Request) error {
	if t.anonymous {
		return nil
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.source == nil {
		found, err := google.FindDefaultCredentials(context.WithValue(context.WithoutCancel(ctx), oauth2.HTTPClient, t.client), scope)
		if err != nil {
			return &answer{reason: "noCredentials", message: "no credentials were found"}
		}
		t.source = found.TokenSource
	}
	token, err := t.source.Token()
	if err != nil {
		return &answer{status: http.StatusUnauthorized, reason: "noToken", message: "no token was given"}
	}
	token.SetAuthHeader(r)
	return nil
}
