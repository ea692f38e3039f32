package s3

import (
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

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
func newChain(s Settings) *chain {
	file := kind{"the shared credentials file", &credentials.FileAWSCredentials{Profile: s.Profile}}
	switch {
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
