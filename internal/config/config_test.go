package config

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const described = `stores:
  harbour:
    for: s3://orrin
    endpoint: https://store.example:9000
    path_style: true
    ca: certificates/harbour.pem
  raw:
    for: s3://orrin/raw/
    anonymous: true
  all:
    for: s3://
    region: north-1
catalogs:
  office:
    kind: rest
    uri: https://catalog.example
    location: s3://orrin/warehouse
    token_from: env:OFFICE_TOKEN
  cellar:
    kind: folder
    location: warehouse
`

// TestTheLongestBeginningCounts asks for the stores of URIs.
func TestTheLongestBeginningCounts(t *testing.T) {
	c, err := Parse([]byte(described), "/home/harbour/trevak.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for uri, want := range map[string]string{"s3://orrin": "s3://orrin", "s3://orrin/a/b.csv": "s3://orrin", "s3://orrin/raw": "s3://orrin/raw/",
		"s3://orrin/raw/a.csv": "s3://orrin/raw/", "s3://orrin/rawer/a.csv": "s3://orrin", "s3://orrin-2/a": "s3://", "gs://orrin/a": "", "a.csv": ""} {
		if s, ok := c.StoreOf(uri); s.For != want || ok != (want != "") {
			t.Errorf("%s: %q, %v", uri, s.For, ok)
		}
	}
	if ca := filepath.ToSlash(c.Stores["harbour"].CA); ca != "/home/harbour/certificates/harbour.pem" {
		t.Error(ca)
	}
	if got := filepath.ToSlash(c.Catalogs["cellar"].Location); got != "/home/harbour/warehouse" {
		t.Error(got)
	}
	if got := c.Catalogs["office"]; got.Location != "s3://orrin/warehouse" || got.TokenFrom != "env:OFFICE_TOKEN" {
		t.Errorf("%+v", got)
	}
}

// FuzzParse reads any text; what it takes names only stores of known schemes, and it takes it again.
func FuzzParse(f *testing.F) {
	f.Add(described)
	f.Add("")
	f.Add("stores: [")
	f.Add("catalogs:\n  a: {kind: folder, location: .}\n")
	f.Add("stores:\n  a:\n    for: s3://b\n  b:\n    for: s3://b/\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse([]byte(text), "trevak.yaml")
		if err != nil {
			return
		}
		for name, s := range c.Stores {
			if scheme, _, _ := strings.Cut(strings.ToLower(s.For), "://"); !slices.Contains([]string{"s3", "gs", "az", "abfss", "abfs"}, scheme) {
				t.Errorf("the store %s is for %q", name, s.For)
			}
		}
		for name, of := range c.Catalogs {
			if of.check(name) != nil {
				t.Errorf("the catalog %s is taken: %+v", name, of)
			}
		}
	})
}
