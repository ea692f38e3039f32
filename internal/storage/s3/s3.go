// Package s3 is the stores of objects that speak the S3 protocol.
//
// What comes in are URIs like s3://bucket/key, and how the store of each is reached; what goes out are objects, files and writers
// as package storage has them. Pieces of an object are asked for by its ETag, so that two states of it are never mixed; objects
// appear when their upload is completed, and only where there is none yet if that is asked for.
package s3

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/s3utils"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Settings say how a store is reached. What is left out is the protocol's usual.
type Settings struct {
	// Endpoint is the URL of the server, empty for Amazon's.
	Endpoint string
	// Region is that of the buckets, empty to ask the server.
	Region string
	// PathStyle names the bucket in the path instead of the server's name.
	PathStyle bool
	// Profile is the part of the shared credentials file that is used, empty for the usual one; where it is stated nothing else is tried.
	Profile string
	// Anonymous signs nothing.
	Anonymous bool
	// Proxy is the URL of a proxy, empty for that of the environment.
	Proxy string
	// CA is a file of certificates, in PEM, that are trusted besides the system's.
	CA string
}

// Options are how stores are used.
type Options struct {
	// Of returns how the store of a URI is reached.
	Of func(uri string) (Settings, error)
	// Patience is how long a server may be silent, 0 for storage.DefaultPatience.
	Patience time.Duration
	// Memory is how many bytes of uploads wait in memory; what is beyond waits in temporary files. 0 is 64 MiB.
	Memory int64
}

// Store is all stores of the protocol.
type Store struct {
	options Options
	parts   *partRoom
	heads   *heads

	mutex   sync.Mutex
	clients map[Settings]*client
	// proven are buckets in which objects are kept from being replaced.
	proven map[string]bool
}

// New makes the store. No request is sent.
func New(o Options) *Store {
	if o.Patience <= 0 {
		o.Patience = storage.DefaultPatience
	}
	if o.Memory <= 0 {
		o.Memory = 64 << 20
	}
	if o.Of == nil {
		o.Of = func(string) (Settings, error) { return Settings{}, nil }
	}
	return &Store{options: o, parts: newPartRoom(o.Memory), heads: newHeads(), clients: map[Settings]*client{},
		proven: map[string]bool{}}
}

// client sends requests to one server.
type client struct {
	*minio.Core
	chain    *chain
	settings Settings
}

// Where a request goes.
type place struct {
	*client
	uri, bucket, key string
}

// at takes a URI apart and returns the client of its store.
func (s *Store) at(uri string) (place, error) {
	bucket, key, err := parse(uri)
	if err != nil {
		return place{}, err
	}
	settings, err := s.options.Of(uri)
	if err != nil {
		return place{}, err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	c := s.clients[settings]
	if c == nil {
		if c, err = s.connect(settings); err != nil {
			return place{}, err
		}
		s.clients[settings] = c
	}
	return place{c, uri, bucket, key}, nil
}

// parse takes the bucket and the key out of a URI. The key of a folder has no slash at its end.
func parse(uri string) (bucket, key string, err error) {
	_, rest, _ := strings.Cut(uri, "://")
	bucket, key, _ = strings.Cut(rest, "/")
	if bucket == "" || strings.ContainsAny(bucket, "@:?#") {
		return "", "", fault.New(fault.Usage, "%q names no bucket", storage.Shown(uri)).Try("write it like s3://bucket/folder/file.csv")
	}
	if err := s3utils.CheckValidBucketName(bucket); err != nil {
		return "", "", fault.New(fault.Usage, "%q names no bucket: %s", storage.Shown(uri), err).
			Try("write it like s3://bucket/folder/file.csv")
	}
	return bucket, strings.Trim(key, "/"), nil
}

// connect prepares to send requests; the first of them connects.
func (s *Store) connect(settings Settings) (*client, error) {
	server, secure, err := serverOf(settings.Endpoint)
	if err != nil {
		return nil, err
	}
	transport, err := s.transport(settings)
	if err != nil {
		return nil, err
	}
	chain := newChain(settings)
	lookup := minio.BucketLookupAuto
	if settings.PathStyle {
		lookup = minio.BucketLookupPath
	}
	core, err := minio.NewCore(server, &minio.Options{Creds: chain.credentials(), Secure: secure, Region: settings.Region,
		BucketLookup: lookup, Transport: transport, MaxRetries: tries})
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "the store's address %s cannot be used", settings.Endpoint)
	}
	return &client{core, chain, settings}, nil
}

// serverOf takes the name of the server out of its address.
func serverOf(endpoint string) (server string, secure bool, err error) {
	if endpoint == "" {
		return "s3.amazonaws.com", true, nil
	}
	u, err := url.Parse(endpoint)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "" {
		return "", false, fault.New(fault.Usage, "%q is no address of a store", storage.Shown(endpoint)).
			Try("write it like https://store.example or http://127.0.0.1:9000")
	}
	return u.Host, u.Scheme == "https", nil
}

// transport is what requests go out by.
func (s *Store) transport(settings Settings) (http.RoundTripper, error) {
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: mostRequests, MaxIdleConns: 2 * mostRequests,
		IdleConnTimeout: time.Minute, TLSHandshakeTimeout: s.options.Patience, ResponseHeaderTimeout: s.options.Patience,
		ExpectContinueTimeout: time.Second, DisableCompression: true,
		DialContext: (&net.Dialer{Timeout: s.options.Patience, KeepAlive: 15 * time.Second}).DialContext}
	if settings.Proxy != "" {
		proxy, err := url.Parse(settings.Proxy)
		if err != nil || proxy.Host == "" {
			return nil, fault.New(fault.Usage, "%q is no address of a proxy", storage.Shown(settings.Proxy)).
				Try("write it like http://proxy.example:3128")
		}
		t.Proxy = http.ProxyURL(proxy)
	}
	if settings.CA != "" {
		pem, err := os.ReadFile(settings.CA)
		if err != nil {
			return nil, fault.Wrap(fault.Usage, err, "the certificates of %s cannot be read", settings.CA)
		}
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fault.New(fault.Usage, "%s holds no certificate in PEM", settings.CA).
				Try("name the file of the authority's certificate")
		}
		t.TLSClientConfig = &tls.Config{RootCAs: pool}
	}
	return t, nil
}

// mostRequests is how many requests to one server are under way at a time.
const mostRequests = 64

// Canonical returns the URI without slashes that lead nowhere.
func (s *Store) Canonical(uri string) (string, error) {
	bucket, key, err := parse(uri)
	if err != nil {
		return "", err
	}
	return join(storage.Scheme(uri), bucket, key), nil
}

// join makes a URI.
func join(scheme, bucket, key string) string {
	if key == "" {
		return scheme + "://" + bucket
	}
	return scheme + "://" + bucket + "/" + key
}

// Remove removes an object. What is not there is removed already.
func (s *Store) Remove(ctx context.Context, uri string) error {
	p, err := s.at(uri)
	if err != nil {
		return err
	}
	if p.key == "" {
		return nil
	}
	return p.explained("s3:DeleteObject", p.RemoveObject(ctx, p.bucket, p.key, minio.RemoveObjectOptions{}))
}
