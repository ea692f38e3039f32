// Package azure is the stores of Azure Blob Storage.
//
// What comes in are URIs like az://account/container/key, or abfss://container@account.dfs.core.windows.net/key, and how the store of
// each is reached; what goes out are objects, files and writers as package remote makes them of single requests.
package azure

import (
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/policy"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
	"trevak/internal/storage/vended"
)

// Schemes are those of the URIs that lead here.
var Schemes = []string{"az", "abfss", "abfs"}

// Settings say how a store is reached. What is left out is the service's usual.
type Settings struct {
	// Endpoint is the URL of the server, empty for the account's own.
	Endpoint string
	// PathStyle names the account in the path instead of the server's name.
	PathStyle bool
	// Anonymous signs nothing.
	Anonymous bool
	// Proxy is the URL of a proxy, and CA a file of certificates, as package remote has them.
	Proxy, CA string
	// given is the shared access signature that a catalog gave.
	given string
}

// Options are how stores are used.
type Options struct {
	// Of returns how the store of a URI is reached.
	Of func(uri string) (Settings, error)
	// Env is the environment, in which keys, signatures and connection strings are looked for; nil for an empty one.
	Env func(name string) string
	// Vault holds what catalogs gave for the files of their tables; it may be nil.
	Vault *vended.Vault
	// Patience is how long a server may be silent, 0 for storage.DefaultPatience.
	Patience time.Duration
	// Memory is how many bytes of uploads wait in memory, 0 for the usual.
	Memory int64
}

// containers are those that were asked for.
type containers struct {
	options Options
	mutex   sync.Mutex
	by      map[named]bucket
}

type named struct {
	Settings
	account, container string
}

// New makes the stores. No request is sent.
func New(o Options) *remote.Store {
	if o.Of == nil {
		o.Of = func(string) (Settings, error) { return Settings{}, nil }
	}
	if o.Env == nil {
		o.Env = func(string) string { return "" }
	}
	c := &containers{options: o, by: map[named]bucket{}}
	return remote.New(remote.Options{Locate: c.locate, Patience: o.Patience, Memory: o.Memory})
}

// locate takes a URI apart and returns its container.
func (c *containers) locate(uri string) (remote.Bucket, string, error) {
	base, account, name, key, err := parse(uri)
	if err != nil {
		return nil, "", err
	}
	settings, err := c.options.Of(uri)
	if err != nil {
		return nil, "", err
	}
	if c.options.Vault != nil {
		if g, ok := c.options.Vault.For(uri); ok {
			// The property names the account, with or without its domain (Iceberg REST protocol, "Azure Configurations").
			for key, value := range g.Properties {
				if of, ok := strings.CutPrefix(key, "adls.sas-token."); ok && (of == account || strings.HasPrefix(of, account+".")) {
					settings.given = value
				}
			}
		}
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	of := named{settings, account, name}
	b, ok := c.by[of]
	if !ok {
		if b, err = c.connect(of); err != nil {
			return nil, "", err
		}
		c.by[of] = b
	}
	b.base = base
	return b, key, nil
}

// parse takes the account, the container and the key out of a URI; base is what precedes the key.
func parse(uri string) (base, account, name, key string, err error) {
	scheme := storage.Scheme(uri)
	_, rest, _ := strings.Cut(uri, "://")
	form := "az://account/container/folder/file.csv"
	if scheme == "az" {
		account, rest, _ = strings.Cut(rest, "/")
		name, key, _ = strings.Cut(rest, "/")
		base = "az://" + account + "/" + name
	} else {
		form = scheme + "://container@account.dfs.core.windows.net/folder/file.csv"
		var server string
		server, key, _ = strings.Cut(rest, "/")
		name, server, _ = strings.Cut(server, "@")
		account, _, _ = strings.Cut(server, ".")
		base = scheme + "://" + name + "@" + server
	}
	if !isName(account) || !isName(name) && name != "$root" && name != "$web" {
		return "", "", "", "", fault.New(fault.Usage, "%q names no account and container", storage.Shown(uri)).Try("write it like %s", form)
	}
	return base, account, name, key, nil
}

// isName reports whether a text can be the name of an account or a container.
func isName(text string) bool {
	return len(text) >= 3 && len(text) <= 63 && !strings.ContainsFunc(text, func(r rune) bool {
		return r != '-' && (r < '0' || r > '9') && (r < 'a' || r > 'z')
	})
}

// connect prepares to send requests; the first of them connects.
func (c *containers) connect(of named) (bucket, error) {
	way := remote.Way{Proxy: of.Proxy, CA: of.CA, Patience: c.options.Patience}
	transport, err := way.Transport()
	if err != nil {
		return bucket{}, err
	}
	found := credentialsFor(of, c.options.Env)
	place, err := addressOf(of, found.endpoint)
	if err != nil {
		return bucket{}, err
	}
	options := &container.ClientOptions{ClientOptions: azcore.ClientOptions{Transport: &http.Client{Transport: transport},
		Telemetry: policy.TelemetryOptions{Disabled: true},
		// None: that is seen to here.
		Retry: policy.RetryOptions{MaxRetries: -1}}}
	client, err := found.client(place, options)
	if err != nil {
		return bucket{}, fault.Wrap(fault.Usage, err, "the store of account %s cannot be asked with %s", of.account, found.kind)
	}
	return bucket{client: client, account: of.account, name: of.container, server: place, asked: found.kind}, nil
}

// addressOf is the URL of a container.
func addressOf(of named, stated string) (string, error) {
	server := "https://" + of.account + ".blob.core.windows.net"
	switch {
	case of.Endpoint != "":
		u, err := url.Parse(of.Endpoint)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return "", fault.New(fault.Usage, "%q is no address of a store", storage.Shown(of.Endpoint)).
				Try("write it like https://account.blob.core.windows.net or http://127.0.0.1:10000")
		}
		server = strings.TrimRight(of.Endpoint, "/")
		if of.PathStyle {
			server += "/" + of.account
		}
	case stated != "":
		server = strings.TrimRight(stated, "/")
	}
	return server + "/" + of.container, nil
}
