package cli

import (
	"cmp"
	"context"
	"maps"
	"os"
	"slices"
	"strings"

	"trevak/internal/config"
	"trevak/internal/database"
	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
	"trevak/internal/table"
)

// openCatalog prepares to use the catalog of a name in trevak.yaml.
func openCatalog(ctx context.Context, name string) (*table.Warehouse, error) {
	c, err := configured()
	if err != nil {
		return nil, err
	}
	of, ok := c.Catalogs[name]
	if !ok {
		return nil, noCatalog(c, name, "name a folder with --warehouse")
	}
	if of.Kind == config.Folder {
		return table.OpenWarehouse(stores, of.Location)
	}
	if of.Kind == config.SQL {
		return openSQL(ctx, name, of)
	}
	service := table.Service{Name: name, URI: of.URI, Warehouse: of.Warehouse, Location: of.Location, Scope: of.Scope, Prefix: of.Prefix,
		TokenURI: of.TokenURI, Vault: vault}
	if service.Through, err = (remote.Way{Proxy: of.Proxy, CA: of.CA}).Transport(); err != nil {
		return nil, err
	}
	if service.Token, err = secret(ctx, name, of.TokenFrom); err != nil {
		return nil, err
	}
	if service.Credential, err = secret(ctx, name, of.CredentialFrom); err != nil {
		return nil, err
	}
	return table.OpenService(ctx, stores, service)
}

// openSQL is openCatalog for one in a database, which stays open while the program runs.
func openSQL(ctx context.Context, name string, of config.Catalog) (*table.Warehouse, error) {
	password, err := secret(ctx, name, of.CredentialFrom)
	if err != nil {
		return nil, err
	}
	db, err := database.Open(of.URI, password)
	if err != nil {
		return nil, err
	}
	return table.OpenSQL(stores, table.SQL{Name: cmp.Or(of.Warehouse, name), Location: of.Location, Database: db})
}

// warehouseOf prepares to use the warehouse or catalog of a text, which may name a table behind a catalog's name and a colon.
func warehouseOf(ctx context.Context, text string) (w *table.Warehouse, named string, err error) {
	c, err := configured()
	if err != nil {
		return nil, "", err
	}
	name, of, _ := strings.Cut(text, ":")
	if _, ok := c.Catalogs[name]; ok {
		w, err = openCatalog(ctx, name)
		return w, of, err
	}
	if name != text && !strings.ContainsAny(text, `/\`) {
		return nil, "", noCatalog(c, name, "write the folder of that name as ./"+text)
	}
	w, err = table.OpenWarehouse(stores, text)
	return w, "", err
}

// noCatalog is the error of a catalog that trevak.yaml does not describe; otherwise is what else may be meant.
func noCatalog(c *config.Config, name, otherwise string) error {
	e := fault.New(fault.Usage, "there is no catalog %q in %s", name, config.File)
	if len(c.Catalogs) == 0 {
		return e.Try("describe it there, as docs/stores.md shows, or %s", otherwise)
	}
	return e.Try("%s", schema.Choices(name, slices.Sorted(maps.Keys(c.Catalogs))))
}

// secret reads what a catalog is to be asked with, from the environment or a file; it is empty where nothing is said.
func secret(ctx context.Context, catalog, from string) (string, error) {
	return secretFrom(ctx, from, "the catalog "+catalog, config.File)
}

// secretFrom reads the secret for something, of which a file says where it is.
func secretFrom(ctx context.Context, from, what, file string) (string, error) {
	if from == "" {
		return "", nil
	}
	if variable, ok := strings.CutPrefix(from, "env:"); ok {
		value := os.Getenv(variable)
		if value == "" {
			return "", fault.New(fault.Usage, "the environment does not set %s, which %s is to be asked with", variable, what).
				Try("set it, or name another in %s", file)
		}
		return value, nil
	}
	text, err := storage.ReadAll(ctx, stores, from)
	if err != nil {
		return "", fault.Wrap(fault.Usage, err, "what %s is to be asked with cannot be read from %s", what, from)
	}
	return strings.TrimSpace(string(text)), nil
}
