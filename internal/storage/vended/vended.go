// Package vended keeps the credentials that catalogs give for the files of their tables, for as long as they hold.
//
// What comes in are properties as Iceberg's REST protocol has them, for all URIs that begin alike; what goes out are those for a URI,
// renewed before they end. They are kept in memory alone.
package vended

import (
	"context"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Grant is what a catalog gives for URIs that begin with Prefix.
type Grant struct {
	Prefix     string
	Properties map[string]string
	// Until is when it ends, the zero time where that is not said.
	Until time.Time
	renew func(context.Context) error
}

// Vault holds grants.
type Vault struct {
	mutex sync.Mutex
	list  map[string]Grant
	// renewing keeps two from asking for the same at once.
	renewing sync.Mutex
}

// ends are the properties that say when credentials end, in milliseconds since 1970.
var ends = []string{"s3.session-token-expires-at-ms", "gcs.oauth2.token-expires-at", "expiration-time"}

// families begin the properties that say how files are reached.
var families = []string{"s3.", "client.", "gcs.", "adls."}

// Put keeps a grant in the place of a former one. renew has the catalog asked again, after which Put is called again; it may be nil.
func (v *Vault) Put(prefix string, properties map[string]string, renew func(context.Context) error) {
	g := Grant{Prefix: prefix, Properties: map[string]string{}, renew: renew}
	for key, value := range properties {
		for _, family := range families {
			if strings.HasPrefix(key, family) {
				g.Properties[key] = value
			}
		}
		if end(key) {
			if ms, err := strconv.ParseInt(value, 10, 64); err == nil && (g.Until.IsZero() || time.UnixMilli(ms).Before(g.Until)) {
				g.Until = time.UnixMilli(ms)
			}
		}
	}
	if len(g.Properties) == 0 || prefix == "" {
		return
	}
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.list == nil {
		v.list = map[string]Grant{}
	}
	v.list[prefix] = g
}

func end(key string) bool {
	for _, name := range ends {
		if key == name {
			return true
		}
	}
	return strings.HasPrefix(key, "adls.sas-token-expires-at-ms")
}

// early is how long before its end a grant is renewed.
const early = time.Minute

func (g Grant) due() bool { return !g.Until.IsZero() && time.Until(g.Until) < early }

// For returns what was given for a URI: the grant whose prefix is the longest.
func (v *Vault) For(uri string) (Grant, bool) {
	g, ok := v.find(uri)
	if !ok || !g.due() || g.renew == nil {
		return g, ok
	}
	v.renewing.Lock()
	defer v.renewing.Unlock()
	if g, ok = v.find(uri); ok && g.due() {
		ctx, quit := context.WithTimeout(context.Background(), early)
		defer quit()
		// Where it cannot be renewed, the store says what is wrong.
		_ = g.renew(ctx)
		g, ok = v.find(uri)
	}
	return g, ok
}

func (v *Vault) find(uri string) (g Grant, ok bool) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for prefix, candidate := range v.list {
		if strings.HasPrefix(uri, prefix) && (!ok || len(prefix) > len(g.Prefix)) {
			g, ok = candidate, true
		}
	}
	return g, ok
}
