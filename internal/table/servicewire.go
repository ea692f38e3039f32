package table

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"trevak/internal/storage"
	"trevak/internal/storage/vended"
)

// wire is what requests to a service go out by. It reads along what the library has no use for here: the part of paths that the
// service asks for, and the credentials that it gives for the files of tables.
type wire struct {
	through http.RoundTripper
	vault   *vended.Vault
	tokens  oauth2.TokenSource // nil for nobody
	base    string             // the address of the service, without a slash at its end

	mutex  sync.Mutex
	prefix string
	// endpoints are the requests that the service says it offers.
	endpoints []string
}

// AuthHeader is what says who asks.
func (w *wire) AuthHeader() (string, string, error) {
	token, err := w.tokens.Token()
	if err != nil {
		return "", "", fmt.Errorf("no token was given: %w", err)
	}
	return "Authorization", "Bearer " + token.AccessToken, nil
}

// tokensOf gives the tokens of a service: the one that is known, or those that an id and a secret are changed for (RFC 6749, section
// 4.4) for as long as each holds.
func tokensOf(of Service, through http.RoundTripper) oauth2.TokenSource {
	switch {
	case of.Token != "":
		return oauth2.StaticTokenSource(&oauth2.Token{AccessToken: of.Token})
	case of.Credential == "":
		return nil
	}
	id, secret, two := strings.Cut(of.Credential, ":")
	if !two {
		id, secret = "", id
	}
	place, scope := of.TokenURI, of.Scope
	if place == "" {
		place = strings.TrimRight(of.URI, "/") + "/v1/oauth/tokens"
	}
	if scope == "" {
		scope = "catalog"
	}
	c := clientcredentials.Config{ClientID: id, ClientSecret: secret, TokenURL: place, Scopes: strings.Fields(scope),
		AuthStyle: oauth2.AuthStyleInParams}
	return c.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, &http.Client{Transport: through}))
}

// RoundTrip sends a request, and reads its answer along.
func (w *wire) RoundTrip(r *http.Request) (*http.Response, error) {
	got, err := w.through.RoundTrip(r)
	if err != nil || got.StatusCode != http.StatusOK {
		return got, err
	}
	path := r.URL.Path
	config, tables := strings.HasSuffix(path, "/v1/config"), strings.Contains(path, "/tables/") || strings.HasSuffix(path, "/tables")
	if !config && (!tables || r.Method == http.MethodGet && strings.HasSuffix(path, "/tables")) {
		return got, nil
	}
	text, err := io.ReadAll(got.Body)
	got.Body.Close()
	if err != nil {
		return nil, err
	}
	got.Body = io.NopCloser(bytes.NewReader(text))
	if config {
		w.configured(text)
	} else {
		w.granted(text, w.again(r))
	}
	return got, nil
}

// configured takes the part of paths out of the service's configuration.
func (w *wire) configured(text []byte) {
	var told struct {
		Defaults, Overrides map[string]string
		Endpoints           []string
	}
	if json.Unmarshal(text, &told) != nil {
		return
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.endpoints = told.Endpoints
	for _, properties := range []map[string]string{told.Defaults, told.Overrides} {
		if prefix, ok := properties["prefix"]; ok {
			w.prefix = prefix
		}
	}
}

// granted keeps the credentials that came with a table.
func (w *wire) granted(text []byte, renew func(context.Context) error) {
	var told struct {
		Metadata struct{ Location string }
		Config   map[string]string
		Storage  []struct {
			Prefix string
			Config map[string]string
		} `json:"storage-credentials"`
	}
	if json.Unmarshal(text, &told) != nil {
		return
	}
	w.vault.Put(told.Metadata.Location, told.Config, renew)
	for _, s := range told.Storage {
		// What holds for all of a table's files stands beside.
		all := map[string]string{}
		for _, properties := range []map[string]string{told.Config, s.Config} {
			for k, v := range properties {
				all[k] = v
			}
		}
		w.vault.Put(s.Prefix, all, renew)
	}
}

// again repeats a request for a table, for the credentials that come with its answer; nil for other requests.
func (w *wire) again(r *http.Request) func(context.Context) error {
	if r.Method != http.MethodGet {
		return nil
	}
	place := r.URL.String()
	return func(ctx context.Context) error {
		_, err := w.send(ctx, http.MethodGet, place, nil)
		return err
	}
}

// send sends a request of our own, and returns its answer.
func (w *wire) send(ctx context.Context, method, place string, body []byte) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, method, place, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if w.tokens != nil {
		name, value, err := w.AuthHeader()
		if err != nil {
			return nil, err
		}
		r.Header.Set(name, value)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("X-Iceberg-Access-Delegation", "vended-credentials")
	got, err := (&http.Client{Transport: w}).Do(r)
	if err != nil {
		return nil, err
	}
	defer got.Body.Close()
	text, err := io.ReadAll(got.Body)
	if err == nil && got.StatusCode != http.StatusOK {
		return nil, &refusal{got.StatusCode, text}
	}
	return text, err
}

// refusal is an answer that is no success.
type refusal struct {
	status int
	text   []byte
}

func (r *refusal) Error() string {
	var told struct {
		Error struct{ Message, Type string }
	}
	if json.Unmarshal(r.text, &told) == nil && told.Error.Message != "" {
		return told.Error.Message
	}
	return fmt.Sprintf("the service answers %d", r.status)
}

// planned tells a service of a table that is to be made, and returns where its files may be written, with credentials for them where
// it gives some. The table is there only when it is committed (Iceberg REST protocol, "stage-create").
func (w *wire) planned(ctx context.Context, ident icetable.Identifier, m icetable.Metadata) (location string, err error) {
	spec, order := m.PartitionSpec(), m.SortOrder()
	body, err := json.Marshal(struct {
		Name       string                 `json:"name"`
		Location   string                 `json:"location"`
		Schema     *iceberg.Schema        `json:"schema"`
		Spec       *iceberg.PartitionSpec `json:"partition-spec"`
		Order      *icetable.SortOrder    `json:"write-order"`
		Stage      bool                   `json:"stage-create"`
		Properties map[string]string      `json:"properties"`
	}{last(ident), m.Location(), m.CurrentSchema(), &spec, &order, true, m.Properties()})
	if err != nil {
		return "", err
	}
	w.mutex.Lock()
	path := "/v1/"
	if w.prefix != "" {
		path += strings.Trim(w.prefix, "/") + "/"
	}
	w.mutex.Unlock()
	parts := url.PathEscape(strings.Join(ident[:len(ident)-1], "\x1f"))
	text, err := w.send(ctx, http.MethodPost, w.base+path+"namespaces/"+parts+"/tables", body)
	if err != nil {
		return "", err
	}
	var told struct {
		Metadata struct{ Location string }
	}
	if err := json.Unmarshal(text, &told); err != nil {
		return "", err
	}
	return storage.Clean(told.Metadata.Location), nil
}
