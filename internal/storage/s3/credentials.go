package s3

import (
	"cmp"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"trevak/internal/storage/vended"

	"github.com/minio/minio-go/v7/pkg/credentials"
)

// chain tries kinds of credentials one after the other, and knows which of them it found.
type chain struct {
	kinds []kind

	mutex sync.Mutex
	found *kind
}

// kind is a place where credentials come from.
type kind struct {
	name     string
	provider credentials.Provider
}

// errNoCredentials says that no kind had any.
var errNoCredentials = errors.New("no credentials")

// newChain returns the kinds that are tried for a store: the environment, the shared credentials file, and what the platform that
// the program runs on gives it.
func newChain(s Settings, vault *vended.Vault) *chain {
	file := kind{"the shared credentials file", &credentials.FileAWSCredentials{Profile: s.Profile}}
	switch {
	case s.given != "":
		return &chain{kinds: []kind{{"the catalog", &given{vault: vault, prefix: s.given}}}}
	case s.Anonymous:
		return &chain{}
	case s.Profile != "":
		file.name = "the profile " + s.Profile
		return &chain{kinds: []kind{file}}
	}
	// Away from such platforms nobody answers, which is not waited for.
	const quick = time.Second
	platform := &credentials.IAM{Client: &http.Client{Timeout: quick}}
	return &chain{kinds: []kind{{"the environment", &credentials.EnvAWS{}}, file, {"the platform", platform}}}
}

// credentials gives requests what they are signed with.
func (c *chain) credentials() *credentials.Credentials { return credentials.New(c) }

// Retrieve returns the first credentials that there are; without any, requests are not signed.
func (c *chain) Retrieve() (credentials.Value, error) { return c.RetrieveWithCredContext(nil) }

// RetrieveWithCredContext is Retrieve for requests of a context.
func (c *chain) RetrieveWithCredContext(ctx *credentials.CredContext) (credentials.Value, error) {
	if ctx == nil {
		ctx = &credentials.CredContext{Client: http.DefaultClient}
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for i := range c.kinds {
		k := &c.kinds[i]
		v, err := k.provider.RetrieveWithCredContext(ctx)
		if err == nil && v.AccessKeyID != "" && v.SecretAccessKey != "" {
			c.found = k
			return v, nil
		}
	}
	c.found = nil
	return credentials.Value{SignerType: credentials.SignatureAnonymous}, nil
}

// IsExpired reports whether credentials have to be looked for anew.
func (c *chain) IsExpired() bool {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.found != nil && c.found.provider.IsExpired()
}

// tried says in words which credentials a request was sent with.
func (c *chain) tried() string {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.found != nil {
		return "signed with the credentials of " + c.found.name
	}
	if len(c.kinds) == 0 {
		return "not signed, as is stated for it"
	}
	names := make([]string, len(c.kinds))
	for i, k := range c.kinds {
		names[i] = k.name
	}
	return "not signed: there are no credentials in " + strings.Join(names, ", nor in ")
}

// Properties by which catalogs say how files are reached (Iceberg REST protocol, "S3 Configurations").
const (
	givenKey      = "s3.access-key-id"
	givenSecret   = "s3.secret-access-key"
	givenToken    = "s3.session-token"
	givenEndpoint = "s3.endpoint"
	givenStyle    = "s3.path-style-access"
	givenRegion   = "client.region"
	givenRegion3  = "s3.region"
)

// with returns the settings as a catalog has them for its files; what it leaves out stays.
func (s Settings) with(g vended.Grant) Settings {
	p := g.Properties
	s.Endpoint = cmp.Or(p[givenEndpoint], s.Endpoint)
	s.Region = cmp.Or(p[givenRegion], p[givenRegion3], s.Region)
	s.PathStyle = s.PathStyle || p[givenStyle] == "true"
	if p[givenKey] != "" && p[givenSecret] != "" {
		s.given, s.Profile, s.Anonymous = g.Prefix, "", false
	}
	return s
}

// given are the credentials that a catalog gave, which are looked for anew before they end.
type given struct {
	vault  *vended.Vault
	prefix string
	mutex  sync.Mutex
	until  time.Time
}

// RetrieveWithCredContext returns them.
func (g *given) RetrieveWithCredContext(*credentials.CredContext) (credentials.Value, error) {
	now, ok := g.vault.For(g.prefix)
	if !ok {
		return credentials.Value{}, errNoCredentials
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.until = now.Until
	return credentials.Value{AccessKeyID: now.Properties[givenKey], SecretAccessKey: now.Properties[givenSecret],
		SessionToken: now.Properties[givenToken], SignerType: credentials.SignatureV4, Expiration: now.Until}, nil
}

// Retrieve is RetrieveWithCredContext.
func (g *given) Retrieve() (credentials.Value, error) { return g.RetrieveWithCredContext(nil) }

// IsExpired reports whether they have to be looked for anew: shortly before they end.
func (g *given) IsExpired() bool {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return !g.until.IsZero() && time.Until(g.until) < 30*time.Second
}
