package sandbox

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"
)

// guard keeps a sandbox for those who ask as large catalogs want it: the catalog for whoever shows a token, which it gives for an id and a
// secret, and the store for whoever signs with a key that the catalog gave with a table.
type guard struct {
	// holds is how long a token or a key does.
	holds time.Duration
	mutex sync.Mutex
	known map[string]time.Time // tokens and keys, until when they hold
}

// GuardID and GuardSecret are what the catalog of a guarded sandbox changes for a token.
const (
	GuardID     = "sandbox"
	GuardSecret = "sandbox-secret"
)

// guardPrefix is the part of paths that the catalog of a guarded sandbox has all requests begin with.
const guardPrefix = "harbour"

// make makes a token or a key.
func (g *guard) make(kind string) (secret string, until time.Time) {
	var b [12]byte
	rand.Read(b[:])
	secret, until = kind+hex.EncodeToString(b[:]), time.Now().Add(g.holds)
	g.mutex.Lock()
	defer g.mutex.Unlock()
	for old, end := range g.known {
		if time.Since(end) > time.Hour {
			delete(g.known, old)
		}
	}
	g.known[secret] = until
	return secret, until
}

// hold reports whether a token or a key holds.
func (g *guard) hold(secret string) bool {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	until, ok := g.known[secret]
	return ok && time.Now().Before(until)
}

// token gives a token for an id and a secret (RFC 6749, section 4.4).
func (g *guard) token(r *http.Request) (any, error) {
	if err := r.ParseForm(); err != nil || r.Form.Get("grant_type") != "client_credentials" || r.Form.Get("client_id") != GuardID ||
		r.Form.Get("client_secret") != GuardSecret {
		return nil, &problem{http.StatusUnauthorized, "invalid_client", "the id and the secret are not known"}
	}
	token, _ := g.make("token-")
	return map[string]any{"access_token": token, "token_type": "bearer", "expires_in": int(g.holds.Seconds()),
		"issued_token_type": "urn:ietf:params:oauth:token-type:access_token"}, nil
}

// enters refuses who asks the catalog without a token that holds.
func (g *guard) enters(r *http.Request) error {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok || !g.hold(token) {
		return &problem{http.StatusUnauthorized, "NotAuthorizedException", "the token is missing, or has ended"}
	}
	return nil
}

// signed reports whether a request to the store is signed with a key that holds.
func (g *guard) signed(r *http.Request) bool {
	_, rest, _ := strings.Cut(r.Header.Get("Authorization"), "Credential=")
	key, _, _ := strings.Cut(rest, "/")
	return g.hold(key)
}

// properties are those by which the files of tables are reached.
func (g *guard) properties(r *http.Request) map[string]string {
	key, until := g.make("key-")
	return map[string]string{"s3.endpoint": "http://" + r.Host, "s3.path-style-access": "true", "client.region": "us-east-1",
		"s3.access-key-id": key, "s3.secret-access-key": "secret-of-" + key, "s3.session-token": "session-of-" + key,
		"s3.session-token-expires-at-ms": fmt.Sprint(until.UnixMilli())}
}
