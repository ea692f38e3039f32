package table

import (
	"context"

	icetable "github.com/apache/iceberg-go/table"
)

// keeper is a catalog that others may keep: a service or a database. Its commits need no lock; whether one was carried out may not be
// told by an error.
type keeper interface {
	catalog
	// called is what the catalog is called here.
	called() string
	// eachNamespace visits the namespaces below one, nested ones after those that they lie in.
	eachNamespace(ctx context.Context, above icetable.Identifier, visit func(parts []string) error) error
	// makeNamespace makes a namespace and those that it lies in, where they are missing.
	makeNamespace(ctx context.Context, parts []string) error
	dropNamespace(ctx context.Context, parts []string) error
	// drop has a table be none any more; its files stay.
	drop(ctx context.Context, name Name) error
	// register has a table be one whose metadata is there already.
	register(ctx context.Context, name Name, metadata string) error
}
