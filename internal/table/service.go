package table

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/apache/iceberg-go"
	icecatalog "github.com/apache/iceberg-go/catalog"
	"github.com/apache/iceberg-go/catalog/rest"
	icebergio "github.com/apache/iceberg-go/io"
	icetable "github.com/apache/iceberg-go/table"
	"golang.org/x/oauth2"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/vended"
)

// service is a catalog that others keep: it knows where the newest metadata of each table is, and makes their next versions.
type service struct {
	*rest.Catalog
	name  string
	wire  *wire
	store storage.Store
}

func (s *service) called() string { return s.name }

// Service is how a catalog of the REST protocol is reached.
type Service struct {
	// Name is what it is called here, URI its address.
	Name, URI string
	// Warehouse is which of the service's warehouses is meant, as the service calls it; empty for its own.
	Warehouse string
	// Location is the folder that the files of new tables lie in.
	Location string
	// Token or Credential (an id and a secret, with a colon between them) say who asks; empty for nobody. Scope is asked for with a
	// credential.
	Token, Credential, Scope string
	// TokenURI is where they are changed for a token, empty for the service's own place.
	TokenURI string
	// Prefix is a part of all paths, where the service does not say it itself.
	Prefix string
	// Through is what requests go out by, Vault where credentials are kept that the service gives for the files of tables.
	Through http.RoundTripper
	Vault   *vended.Vault
}

// OpenService prepares to use a catalog, which is asked for its configuration.
func OpenService(ctx context.Context, s storage.Store, of Service) (*Warehouse, error) {
	through := of.Through
	if through == nil {
		through = http.DefaultTransport
	}
	w := &wire{through: through, vault: of.Vault, base: strings.TrimRight(of.URI, "/"), prefix: of.Prefix, tokens: tokensOf(of, through)}
	if w.vault == nil {
		w.vault = &vended.Vault{}
	}
	options := []rest.Option{rest.WithCustomTransport(w)}
	if w.tokens != nil {
		options = append(options, rest.WithAuthManager(w))
	}
	for _, o := range []struct {
		value  string
		option func(string) rest.Option
	}{{of.Prefix, rest.WithPrefix}, {of.Warehouse, rest.WithWarehouseLocation}} {
		if o.value != "" {
			options = append(options, o.option(o.value))
		}
	}
	var c *rest.Catalog
	err := patiently(ctx, func() (err error) {
		c, err = rest.NewCatalog(ctx, of.Name, of.URI, options...)
		return err
	})
	if err != nil {
		return nil, refusedBy(of.Name, of.URI, err)
	}
	location, err := s.Canonical(of.Location)
	if err != nil {
		return nil, err
	}
	own := &service{c, of.Name, w, s}
	return &Warehouse{store: s, dir: location, catalog: own, keeper: own}, nil
}

// unanswered reports whether it cannot be told by an error what a service did: the connection broke, or it has trouble of its own.
func unanswered(err error) bool {
	if _, refused := errors.AsType[*oauth2.RetrieveError](err); refused {
		return false
	}
	var call *url.Error
	return errors.As(err, &call) || errors.Is(err, errUnanswered) || errors.Is(err, rest.ErrCommitStateUnknown) ||
		errors.Is(err, rest.ErrServiceUnavailable)
}

// errUnanswered says that it cannot be told what a catalog did.
var errUnanswered = errors.New("there was no answer")

// patiently does what can be done again without harm, until a service answers.
func patiently(ctx context.Context, f func() error) error {
	for try := 1; ; try++ {
		err := f()
		if !unanswered(err) || try == serviceTries {
			return err
		}
		wait := 100 * time.Millisecond << try
		select {
		case <-time.After(wait/2 + rand.N(wait/2)):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// serviceTries is how often a service is asked before it is given up.
const serviceTries = 4

// refusedBy explains why a service does not do what was asked for.
func refusedBy(name, uri string, err error) error {
	e := fault.New(fault.Storage, "the catalog %s at %s does not answer as one", name, storage.Shown(uri)).
		Try("check its address, and that it speaks the REST protocol of Iceberg")
	refused, noToken := errors.AsType[*oauth2.RetrieveError](err)
	if noToken && refused.Response != nil {
		err = &refusal{refused.Response.StatusCode, refused.Body}
	}
	switch {
	case noToken, errors.Is(err, rest.ErrUnauthorized), errors.Is(err, rest.ErrAuthorizationExpired), errors.Is(err, rest.ErrOAuthError):
		e = fault.New(fault.Storage, "the catalog %s at %s does not accept who asks", name, storage.Shown(uri)).
			Try("have the environment name a token or a credential that it knows")
	case errors.Is(err, rest.ErrForbidden):
		e = fault.New(fault.Storage, "the catalog %s at %s refuses: a right is missing", name, storage.Shown(uri)).
			Try("have it given to who asks")
	}
	e.Cause = err
	return e
}

// told explains what the service refuses, by the right that is missing and what it is needed for; other errors stay as they are.
func (s *service) told(right, object string, err error) error {
	var e *fault.Error
	switch {
	case errors.Is(err, rest.ErrForbidden):
		e = fault.New(fault.Storage, "the catalog %s refuses: the right to %s %s is missing", s.name, right, object).
			Try("have it given to who asks; trevak grants shows what is told of a table's rights")
	case errors.Is(err, rest.ErrUnauthorized), errors.Is(err, rest.ErrAuthorizationExpired):
		e = fault.New(fault.Storage, "the catalog %s does not accept who asks, to %s %s", s.name, right, object).
			Try("have the environment name a token or a credential that it knows")
	default:
		return err
	}
	e.Cause = err
	return e
}

func (s *service) files(ctx context.Context) (icebergio.IO, error) {
	return mending{files{context.WithoutCancel(ctx), s.store}}, nil
}

func (s *service) LoadTable(ctx context.Context, ident icetable.Identifier) (*icetable.Table, error) {
	t, _, err := s.load(ctx, ident)
	return t, err
}

func (s *service) load(ctx context.Context, ident icetable.Identifier) (*icetable.Table, int, error) {
	var t *icetable.Table
	err := patiently(ctx, func() (err error) {
		t, err = s.Catalog.LoadTable(ctx, ident)
		return err
	})
	switch {
	case errors.Is(err, icecatalog.ErrNoSuchTable), errors.Is(err, icecatalog.ErrNoSuchNamespace):
		return nil, 0, errNoTable
	case err != nil:
		return nil, 0, s.told("read", "the table "+strings.Join(ident, "."), err)
	}
	// Its files are reached as all others are.
	return icetable.New(ident, t.Metadata(), t.MetadataLocation(), s.files, s), 0, nil
}

func (s *service) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	metadata, location, err := s.Catalog.CommitTable(ctx, ident, requirements, updates)
	if errors.Is(err, icetable.ErrCommitFailed) {
		err = errors.Join(errRaced, err)
	}
	return metadata, location, s.told("commit to", "the table "+strings.Join(ident, "."), err)
}

// plan tells the service of a new table. One that does not take that is asked again when the table is committed.
func (s *service) plan(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata) (location string, made [][]string,
	err error) {
	ask := func() error {
		return patiently(ctx, func() (err error) {
			location, err = s.wire.planned(ctx, ident, planned)
			return err
		})
	}
	err = ask()
	told, _ := errors.AsType[*refusal](err)
	if told != nil && told.status == http.StatusNotFound {
		for n := 1; n < len(ident); n++ {
			if there, err := s.CheckNamespaceExists(ctx, ident[:n]); err == nil && !there {
				made = append(made, ident[:n])
			}
		}
		if err := s.makeNamespace(ctx, ident[:len(ident)-1]); err != nil {
			return "", made, err
		}
		err = ask()
		told, _ = errors.AsType[*refusal](err)
	}
	switch {
	case told == nil:
		return location, made, err
	case told.status == http.StatusForbidden:
		return "", made, s.told("make", "the table "+strings.Join(ident, "."), errors.Join(rest.ErrForbidden, told))
	case told.status == http.StatusUnauthorized:
		return "", made, s.told("make", "the table "+strings.Join(ident, "."), errors.Join(rest.ErrUnauthorized, told))
	}
	return "", made, nil
}

// create makes a table with its first rows in one request.
func (s *service) create(ctx context.Context, ident icetable.Identifier, planned icetable.Metadata,
	updates []icetable.Update) (icetable.Metadata, string, error) {
	if err := s.makeNamespace(ctx, ident[:len(ident)-1]); err != nil {
		return nil, "", err
	}
	return s.CommitTable(ctx, ident, []icetable.Requirement{icetable.AssertCreate()}, slices.Concat(firstUpdates(planned), updates))
}

// firstUpdates are those that make the planned metadata of a table of nothing.
func firstUpdates(planned icetable.Metadata) []icetable.Update {
	first := []icetable.Update{icetable.NewAssignUUIDUpdate(planned.TableUUID()),
		icetable.NewUpgradeFormatVersionUpdate(planned.Version())}
	for _, schema := range planned.Schemas() {
		first = append(first, icetable.NewAddSchemaUpdate(schema))
	}
	first = append(first, icetable.NewSetCurrentSchemaUpdate(planned.CurrentSchema().ID))
	for _, spec := range planned.PartitionSpecs() {
		first = append(first, icetable.NewAddPartitionSpecUpdate(&spec, false))
	}
	first = append(first, icetable.NewSetDefaultSpecUpdate(planned.DefaultPartitionSpec()))
	for _, order := range planned.SortOrders() {
		first = append(first, icetable.NewAddSortOrderUpdate(&order))
	}
	first = append(first, icetable.NewSetDefaultSortOrderUpdate(planned.DefaultSortOrder()),
		icetable.NewSetLocationUpdate(planned.Location()),
		icetable.NewSetPropertiesUpdate(planned.Properties()))
	return first
}

func (s *service) names(ctx context.Context) (out []Name, err error) {
	err = s.eachNamespace(ctx, nil, func(parts []string) error {
		for ident, err := range s.ListTables(ctx, parts) {
			if err != nil {
				return s.told("list the tables of", "the namespace "+Name{parts}.String(), err)
			}
			out = append(out, Name{ident})
		}
		return nil
	})
	return out, err
}

// eachNamespace visits the namespaces below one, nested ones after those that they lie in.
func (s *service) eachNamespace(ctx context.Context, above icetable.Identifier, visit func(parts []string) error) error {
	var list []icetable.Identifier
	err := patiently(ctx, func() (err error) {
		list, err = s.ListNamespaces(ctx, above)
		return err
	})
	if err != nil {
		return s.told("list", "namespaces", err)
	}
	for _, parts := range list {
		if len(parts) <= len(above) {
			// Some services tell of the one that was asked for as well.
			continue
		}
		if err := visit(parts); err != nil {
			return err
		}
		if err := s.eachNamespace(ctx, parts, visit); err != nil {
			return err
		}
	}
	return nil
}

// makeNamespace makes a namespace and those that it lies in, where they are missing.
func (s *service) makeNamespace(ctx context.Context, parts []string) error {
	for n := 1; n <= len(parts); n++ {
		err := patiently(ctx, func() error { return s.CreateNamespace(ctx, parts[:n], iceberg.Properties{}) })
		if err != nil && !errors.Is(err, icecatalog.ErrNamespaceAlreadyExists) {
			return fmt.Errorf("making the namespace %s: %w", Name{parts[:n]}, s.told("make", "the namespace "+Name{parts[:n]}.String(), err))
		}
	}
	return nil
}

func (s *service) dropNamespace(ctx context.Context, parts []string) error {
	tried := 0
	err := patiently(ctx, func() error {
		tried++
		err := s.DropNamespace(ctx, parts)
		if tried > 1 && errors.Is(err, icecatalog.ErrNoSuchNamespace) {
			return nil
		}
		return err
	})
	err = s.told("drop", "the namespace "+Name{parts}.String(), err)
	return fault.Wrap(fault.Storage, err, "the namespace %s cannot be dropped", Name{parts})
}

// drop has a table be none any more. Its files stay; who wants them gone removes them then.
func (s *service) drop(ctx context.Context, name Name) error {
	tried := 0
	err := patiently(ctx, func() error {
		tried++
		err := s.DropTable(ctx, name.parts)
		if tried > 1 && errors.Is(err, icecatalog.ErrNoSuchTable) {
			return nil
		}
		return err
	})
	return fault.Wrap(fault.Storage, s.told("drop", "the table "+name.String(), err), "the table %s cannot be dropped", name)
}

// register has a table be one whose metadata is there already.
func (s *service) register(ctx context.Context, name Name, metadata string) error {
	if err := s.makeNamespace(ctx, name.parts[:len(name.parts)-1]); err != nil {
		return err
	}
	_, err := s.RegisterTable(ctx, name.parts, metadata)
	if errors.Is(err, icecatalog.ErrTableAlreadyExists) {
		return errRaced
	}
	return s.told("register", "the table "+name.String(), err)
}
