// Package s3 is the stores of objects that speak the S3 protocol.
//
// What comes in are URIs like s3://bucket/key, and how the store of each is reached; what goes out are objects, files and writers
// as package remote makes them of single requests.
package s3

import (
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/s3utils"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
	"trevak/internal/storage/vended"
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
	// given is the prefix of the URIs that a catalog gave credentials for.
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

// clients are those of all stores of the protocol.
type clients struct {
	options Options
	mutex   sync.Mutex
	by      map[Settings]*client
}

// New makes the stores. No request is sent.
func New(o Options) *remote.Store {
	if o.Of == nil {
		o.Of = func(string) (Settings, error) { return Settings{}, nil }
	}
	c := &clients{options: o, by: map[Settings]*client{}}
	return remote.New(remote.Options{Locate: c.locate, Patience: o.Patience, Memory: o.Memory})
}

// client sends requests to one server.
type client struct {
	*minio.Core
	chain    *chain
	settings Settings
}

// locate takes a URI apart and returns its bucket.
func (c *clients) locate(uri string) (remote.Bucket, string, error) {
	name, key, err := parse(uri)
	if err != nil {
		return nil, "", err
	}
	settings, err := c.options.Of(uri)
	if err != nil {
		return nil, "", err
	}
	if c.options.Vault != nil {
		if g, ok := c.options.Vault.For(uri); ok {
			settings = settings.with(g)
		}
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	of := c.by[settings]
	if of == nil {
		if of, err = c.connect(settings); err != nil {
			return nil, "", err
		}
		c.by[settings] = of
	}
	return bucket{of, storage.Scheme(uri), name}, key, nil
}

// parse takes the bucket and the key out of a URI.
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
	return bucket, key, nil
}

// connect prepares to send requests; the first of them connects.
func (c *clients) connect(settings Settings) (*client, error) {
	server, secure, err := serverOf(settings.Endpoint)
	if err != nil {
		return nil, err
	}
	transport, err := remote.Way{Proxy: settings.Proxy, CA: settings.CA, Patience: c.options.Patience}.Transport()
	if err != nil {
		return nil, err
	}
	chain := newChain(settings, c.options.Vault)
	lookup := minio.BucketLookupAuto
	if settings.PathStyle {
		lookup = minio.BucketLookupPath
	}
	core, err := minio.NewCore(server, &minio.Options{Creds: chain.credentials(), Secure: secure, Region: settings.Region,
		BucketLookup: lookup, Transport: transport, MaxRetries: 1})
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
