// Package config reads trevak.yaml: the stores and catalogs of whoever works here, by name.
//
// What comes in is the text of the file; what goes out is what each store and catalog is reached by. Secrets have no place in it: they
// come from the environment, from files that it names, or from the platform.
package config

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"

	"trevak/internal/database"
	"trevak/internal/fault"
	"trevak/internal/storage"
)

// File is the name of the file.
const File = "trevak.yaml"

// Config is what the file says.
type Config struct {
	// Stores are where objects lie, by name.
	Stores map[string]Store `yaml:"stores"`
	// Catalogs are where tables are found, by name.
	Catalogs map[string]Catalog `yaml:"catalogs"`
	// Runs is the database that the history of runs is kept in, where that is not beside the tables.
	Runs Runs `yaml:"runs"`
}

// Runs is a database for the history of runs.
type Runs struct {
	URI string `yaml:"uri"`
	// CredentialFrom says where the password is: env:NAME, or a file.
	CredentialFrom string `yaml:"credential_from"`
}

// Catalog is where tables are found, and how it is reached.
type Catalog struct {
	// Kind is folder, for a warehouse that is its own catalog, rest, for a service of Iceberg's REST protocol, or sql, for a database.
	Kind string `yaml:"kind"`
	// Location is the warehouse, or where the files of new tables lie.
	Location string `yaml:"location"`
	// URI is the address of a service or a database, Warehouse which of its warehouses or catalogs is meant, Prefix a part of its paths.
	URI       string `yaml:"uri"`
	Warehouse string `yaml:"warehouse"`
	Prefix    string `yaml:"prefix"`
	// TokenFrom and CredentialFrom say where the token is, or the id and the secret, or the password of a database: env:NAME, or a file.
	// Scope is asked for.
	TokenFrom      string `yaml:"token_from"`
	CredentialFrom string `yaml:"credential_from"`
	Scope          string `yaml:"scope"`
	// TokenURI is where an id and a secret are changed for a token, where that is not the service itself.
	TokenURI string `yaml:"token_uri"`
	// Proxy is the address of a proxy, CA a file of certificates that are trusted besides the system's.
	Proxy string `yaml:"proxy"`
	CA    string `yaml:"ca"`
}

// Kinds of catalogs.
const (
	Folder = "folder"
	REST   = "rest"
	SQL    = "sql"
)

// check refuses a catalog that does not say what it has to.
func (c Catalog) check(name string) *fault.Error {
	switch {
	case c.Kind != Folder && c.Kind != REST && c.Kind != SQL:
		return fault.New(fault.Usage, "the catalog %s is of no kind that is known: %q", name, c.Kind).
			Try("write kind: %s, kind: %s or kind: %s", Folder, REST, SQL)
	case c.Location == "":
		return fault.New(fault.Usage, "the catalog %s does not say where its tables lie", name).
			Try("write it like location: s3://bucket/warehouse")
	case c.Kind == REST && !strings.HasPrefix(c.URI, "http://") && !strings.HasPrefix(c.URI, "https://"):
		return fault.New(fault.Usage, "the catalog %s has no address: %q", name, c.URI).Try("write it like uri: https://catalog.example")
	case c.Kind == SQL && c.Prefix+c.TokenFrom+c.Scope+c.TokenURI+c.Proxy+c.CA != "":
		return fault.New(fault.Usage, "the catalog %s is in a database, which has no prefix, token, scope, proxy or ca", name).
			Try("leave out all but kind, uri, location, warehouse and credential_from")
	case c.Kind == Folder && c.URI+c.Warehouse+c.Prefix+c.TokenFrom+c.CredentialFrom+c.Scope+c.TokenURI+c.Proxy+c.CA != "":
		return fault.New(fault.Usage, "the catalog %s is a folder, which is not asked for anything", name).
			Try("leave out all but kind and location")
	}
	return nil
}

// Store is how objects whose URIs begin alike are reached.
type Store struct {
	// For is what their URIs begin with, like s3://bucket or s3://.
	For string `yaml:"for"`
	// Endpoint is the address of the server, Region where it keeps them.
	Endpoint string `yaml:"endpoint"`
	Region   string `yaml:"region"`
	// PathStyle names buckets in paths instead of in the server's name.
	PathStyle bool `yaml:"path_style"`
	// Profile is the part of the shared credentials file that is used. Anonymous signs nothing.
	Profile   string `yaml:"profile"`
	Anonymous bool   `yaml:"anonymous"`
	// Proxy is the address of a proxy, CA a file of certificates that are trusted besides the system's.
	Proxy string `yaml:"proxy"`
	CA    string `yaml:"ca"`
}

// schemes are those of stores that can be described, each with the keys that say nothing of it.
var schemes = map[string][]string{"s3": nil, "gs": {"region", "path_style", "profile"}, "az": {"region", "profile"},
	"abfss": {"region", "profile"}, "abfs": {"region", "profile"}}

// of returns what a store says under a key of those that not all stores have.
func (s Store) of(key string) bool {
	return key == "region" && s.Region != "" || key == "path_style" && s.PathStyle || key == "profile" && s.Profile != ""
}

// Parse reads the text of a file; path names it in errors, and files that it names lie from its folder on.
func Parse(text []byte, path string) (*Config, error) {
	c := &Config{}
	if err := decode(text, c); err != nil && !errors.Is(err, io.EOF) {
		return nil, wrong(err).In(path)
	}
	for _, name := range slices.Sorted(maps.Keys(c.Stores)) {
		s := c.Stores[name]
		scheme := storage.Scheme(s.For)
		foreign, known := schemes[scheme]
		if !known {
			e := fault.New(fault.Usage, "the store %s does not say what it is for: %q", name, s.For).
				Try("write it like for: s3://bucket, gs://bucket or az://account/container, or for: s3:// for all that are not described otherwise")
			return nil, line(text, "$.stores."+name, e).In(path)
		}
		for _, key := range foreign {
			if s.of(key) {
				e := fault.New(fault.Usage, "stores of %s:// have no %s, which the store %s states", scheme, key, name).Try("leave it out")
				return nil, line(text, "$.stores."+name, e).In(path)
			}
		}
		for other, o := range c.Stores {
			if other != name && storage.Clean(o.For) == storage.Clean(s.For) {
				e := fault.New(fault.Usage, "the stores %s and %s are for the same: %s", min(name, other), max(name, other), s.For).
					Try("keep one of them")
				return nil, line(text, "$.stores."+name, e).In(path)
			}
		}
		if s.CA != "" {
			s.CA = storage.From(storage.Dir(path), s.CA)
		}
		c.Stores[name] = s
	}
	for _, name := range slices.Sorted(maps.Keys(c.Catalogs)) {
		of := c.Catalogs[name]
		if e := of.check(name); e != nil {
			return nil, line(text, "$.catalogs."+name, e).In(path)
		}
		of.Location = storage.From(storage.Dir(path), of.Location)
		if of.Kind == SQL {
			if err := database.Check(of.URI); err != nil {
				return nil, line(text, "$.catalogs."+name, err).In(path)
			}
			if kind, place, _ := database.Of(of.URI); kind == "sqlite" {
				of.URI = "sqlite:" + storage.From(storage.Dir(path), place)
			}
		}
		if of.CA != "" {
			of.CA = storage.From(storage.Dir(path), of.CA)
		}
		for _, from := range []*string{&of.TokenFrom, &of.CredentialFrom} {
			if *from != "" && !strings.HasPrefix(*from, "env:") {
				*from = storage.From(storage.Dir(path), *from)
			}
		}
		c.Catalogs[name] = of
	}
	return c, c.placeRuns(text, path)
}

// placeRuns checks the database of the run history, and has files named from the folder of the file on.
func (c *Config) placeRuns(text []byte, path string) error {
	if c.Runs == (Runs{}) {
		return nil
	}
	if err := database.Check(c.Runs.URI); err != nil {
		return line(text, "$.runs", err).In(path)
	}
	if kind, place, _ := database.Of(c.Runs.URI); kind == "sqlite" {
		c.Runs.URI = "sqlite:" + storage.From(storage.Dir(path), place)
	}
	if from := c.Runs.CredentialFrom; from != "" && !strings.HasPrefix(from, "env:") {
		c.Runs.CredentialFrom = storage.From(storage.Dir(path), from)
	}
	return nil
}

// decode fills what a file says. The library panics on some texts that are no YAML.
func decode(text []byte, c *Config) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	return yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(c)
}

// wrong makes an error of one of the YAML library's.
func wrong(err error) *fault.Error {
	e := fault.New(fault.Usage, "is no file of stores and catalogs: it is no YAML here").Try("its keys are described in docs/stores.md")
	var unknown *yaml.UnknownFieldError
	var twice *yaml.DuplicateKeyError
	var mistyped *yaml.TypeError
	var unexpected *yaml.UnexpectedNodeTypeError
	var other yaml.Error
	switch {
	case errors.As(err, &unknown):
		e.Reason = "the key " + fault.Quote(unknown.Token.Value) + " is not known here"
	case errors.As(err, &twice):
		e.Reason = "the key " + fault.Quote(twice.Token.Value) + " is there twice"
	case errors.As(err, &mistyped):
		e.Reason = fault.Quote(mistyped.Token.Value) + " is not what its key takes"
	case errors.As(err, &unexpected):
		e.Reason = fault.Quote(unexpected.Token.Value) + " is not what its key takes"
	}
	if errors.As(err, &other) && other.GetToken() != nil {
		e.Line = int64(other.GetToken().Position.Line)
	}
	return e
}

// line gives an error the line of a node.
func line(text []byte, path string, e *fault.Error) *fault.Error {
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return e
	}
	p, err := yaml.PathString(path)
	if err != nil {
		return e
	}
	if node, err := p.FilterFile(file); err == nil && node != nil {
		e.Line = int64(node.GetToken().Position.Line)
	}
	return e
}

// StoreOf returns the store that a URI belongs to: the one whose beginning is the longest; ok is false where there is none.
func (c *Config) StoreOf(uri string) (s Store, ok bool) {
	longest := -1
	for _, candidate := range c.Stores {
		if begins(uri, candidate.For) && len(candidate.For) > longest {
			s, ok, longest = candidate, true, len(candidate.For)
		}
	}
	return s, ok
}

// begins reports whether a URI is, or lies below, another, or has its scheme where that is all the other says.
func begins(uri, beginning string) bool {
	clean := strings.TrimRight(beginning, "/")
	if strings.HasSuffix(clean, ":") {
		return strings.HasPrefix(uri, clean+"//")
	}
	return uri == clean || strings.HasPrefix(uri, clean+"/")
}
