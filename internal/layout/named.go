package layout

import (
	"fmt"
	"net/url"
	"strings"

	"trevak/internal/fit"
	"trevak/internal/schema"
)

// NamedPart is a folder that names a column and the value that all rows below it have.
type NamedPart struct {
	Column, Text string
	// Null says that the rows have none.
	Null bool
}

// NamedParts reads the folders directly above a file that are written name=value, the outermost first, as Folder writes them.
func NamedParts(uri string) (out []NamedPart) {
	parts := strings.Split(uri, "/")
	for i := len(parts) - 2; i >= 0; i-- {
		name, value, ok := strings.Cut(parts[i], "=")
		if !ok || name == "" {
			break
		}
		p := NamedPart{Column: unescaped(name), Text: unescaped(value), Null: value == "null"}
		out = append([]NamedPart{p}, out...)
	}
	return out
}

func unescaped(text string) string {
	if plain, err := url.PathUnescape(text); err == nil {
		return plain
	}
	return text
}

// Identities are the values of partition fields that are columns as they are, out of what folders name them.
func Identities(s schema.Schema, parts []NamedPart) ([]Value, error) {
	out := make([]Value, len(parts))
	for i, p := range parts {
		if p.Null {
			continue
		}
		f, err := Column(s, p.Column)
		if err != nil {
			return nil, err
		}
		values, ok := fit.Constant(schema.Field{Name: f.Name, Type: f.Type, Pinned: true}, p.Text, 1)
		if !ok {
			return nil, fmt.Errorf("%q is no %s", p.Text, f.Type)
		}
		if out[i], err = (Transform{Name: "identity", Column: f.Name}).apply(leaf{values: values}, 0); err != nil {
			return nil, err
		}
	}
	return out, nil
}
