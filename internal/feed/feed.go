// Package feed reads and writes feed files: everything that was settled about one flow of files into a table, in YAML.
//
// What comes in is a file's text; what goes out is a Feed, or an error that names the line. Writing is the other way round.
package feed

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/setting"
	"trevak/internal/storage"
)

// Version is the version of the form of feed files that is written.
const Version = 1

// Feed describes one flow. What is absent is decided from the data, or is the usual.
type Feed struct {
	Version int
	// Columns are in the order of the table.
	Columns []Column
	// Values are those of settings, by their keys.
	Values map[string][]string
	// Path is the file that it was read from.
	Path string

	// text is that of the file, and within the place in it where the feed stands, with a point before each step; empty for all of it.
	text   []byte
	within string
	// under are those that say what this one does not, the nearest first.
	under []*Feed
}

// One returns the value of a setting that has one; it is empty where there is none.
func (f *Feed) One(key string) string { return strings.Join(f.Values[key], ",") }

// Column is a column or a part of a nested one.
type Column struct {
	Name string `yaml:"name,omitempty"`
	// From is the name in the source where that is another.
	From string `yaml:"from,omitempty"`
	// Type is as --type takes it; struct, list and map have their parts below them.
	Type     string   `yaml:"type"`
	Nulls    []string `yaml:"nulls,omitempty"`
	Required bool     `yaml:"required,omitempty"`
	Comment  string   `yaml:"comment,omitempty"`
	Fields   []Column `yaml:"fields,omitempty"`
	Element  *Column  `yaml:"element,omitempty"`
	Value    *Column  `yaml:"value,omitempty"`
}

// Read reads a feed file.
func Read(ctx context.Context, s storage.Store, path string) (*Feed, error) {
	text, err := ReadBounded(ctx, s, path)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the feed file %s cannot be read", path)
	}
	f, err := Parse(text)
	var e *fault.Error
	if errors.As(err, &e) {
		return nil, e.In(path)
	}
	if f != nil {
		f.Path = path
	}
	return f, err
}

// Parse reads a feed file's text. Errors name the line.
func Parse(text []byte) (*Feed, error) { return ParseWith(text, nil) }

// ParseWith is Parse with the texts of values made others, as by parameters; expand may be nil.
func ParseWith(text []byte, expand func(string) (string, error)) (*Feed, error) {
	f := &Feed{text: text}
	if err := Plausible(text); err != nil {
		return nil, err
	}
	root, err := Root(text)
	if err != nil {
		return nil, err
	}
	if err := Expand(root, expand); err != nil {
		return nil, err
	}
	if err := decode(root, f); err != nil {
		return nil, syntax(text, err)
	}
	if f.Version != Version {
		return nil, at(text, "$.feed", fault.New(fault.Usage, "the form of feed files is %d, this file says %d", Version,
			f.Version).Try("begin the file with: feed: %d", Version))
	}
	return f, f.checkColumns()
}

// OfNode reads a feed that is written within the text of a file, at a place like .feeds[2]; its texts were expanded before.
func OfNode(node ast.Node, text []byte, path, within string) (*Feed, error) {
	f := &Feed{text: text, within: within, Path: path}
	if err := decode(node, f); err != nil {
		return nil, syntax(text, err)
	}
	return f, f.checkColumns()
}

// Over returns a feed with what another says where it says nothing itself.
func (f *Feed) Over(usual *Feed) *Feed {
	out := *f
	out.under = append(slices.Clone(f.under), usual)
	out.Values = maps.Clone(usual.Values)
	maps.Copy(out.Values, f.Values)
	if len(out.Columns) == 0 {
		out.Columns = usual.Columns
	}
	return &out
}

func (f *Feed) checkColumns() error {
	names := map[string]bool{}
	for i, c := range f.Columns {
		path := fmt.Sprintf("$%s.columns[%d]", f.within, i)
		if c.Name == "" {
			return at(f.text, path, fault.New(fault.Usage, "the column has no name").Try("give each column a name and a type"))
		}
		if names[c.Name] {
			return at(f.text, path, fault.New(fault.Usage, "the column %q is there twice", c.Name).Try("keep one of them"))
		}
		names[c.Name] = true
		if _, err := c.field(f.text, path); err != nil {
			return err
		}
	}
	return nil
}

// Root reads a text as YAML. The library panics on some texts that are none.
func Root(text []byte) (root ast.Node, err error) {
	defer func() {
		if r := recover(); r != nil {
			root, err = nil, syntax(text, fmt.Errorf("%v", r))
		}
	}()
	file, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err == nil && (len(file.Docs) == 0 || file.Docs[0].Body == nil) {
		err = io.EOF
	}
	if err != nil {
		return nil, syntax(text, err)
	}
	return file.Docs[0].Body, nil
}

// decode fills a feed. The library panics on some texts that are no YAML.
func decode(root ast.Node, f *Feed) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	v := reflect.New(form)
	if err := yaml.NodeToValue(root, v.Interface(), yaml.Strict()); err != nil {
		return err
	}
	v = v.Elem()
	f.Version = int(v.FieldByName("Version").Int())
	f.Columns, _ = v.FieldByName("Columns").Interface().([]Column)
	f.Values = map[string][]string{}
	each(v, func(s setting.Setting, at reflect.Value) {
		if values := texts(at); len(values) > 0 {
			f.Values[s.Key] = values
		}
	})
	return nil
}

// Place returns the file that a key is in, which is named by its path with points, and its line; 0 where it is in none.
func (f *Feed) Place(key string) (path string, line int64) {
	if line = at(f.text, "$"+f.within+"."+key, &fault.Error{}).Line; line > 0 {
		return f.Path, line
	}
	for _, other := range f.under {
		if path, line := other.Place(key); line > 0 {
			return path, line
		}
	}
	return f.Path, 0
}

// at gives an error the line of a node.
func at(text []byte, path string, e *fault.Error) *fault.Error {
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

// Fields returns the columns as fields of a schema, with everything pinned that is not nested.
func (f *Feed) Fields() ([]schema.Field, error) {
	var out []schema.Field
	for i, c := range f.Columns {
		field, err := c.field(nil, fmt.Sprintf("$.columns[%d]", i))
		if err != nil {
			return nil, err
		}
		out = append(out, field)
	}
	return out, nil
}

// field makes a field of a column. text and path are the file's, for errors.
func (c Column) field(text []byte, path string) (schema.Field, error) {
	f := schema.Field{Name: c.Name, Required: c.Required, Doc: c.Comment}
	if c.From != "" && c.From != c.Name {
		f.Origin = c.From
	}
	switch {
	case len(c.Fields) > 0:
		f.Type.Kind = schema.Struct
		for i, part := range c.Fields {
			p, err := part.field(text, fmt.Sprintf("%s.fields[%d]", path, i))
			if err != nil {
				return f, err
			}
			f.Type.Fields = append(f.Type.Fields, p)
		}
	case c.Element != nil:
		e, err := c.Element.field(text, path+".element")
		if err != nil {
			return f, err
		}
		e.Name = schema.ElementName
		f.Type = schema.Type{Kind: schema.List, Element: &e}
	case c.Value != nil:
		v, err := c.Value.field(text, path+".value")
		if err != nil {
			return f, err
		}
		v.Name = schema.ValueName
		f.Type = schema.Type{Kind: schema.Map, Key: &schema.Field{Name: schema.KeyName, Type: schema.Type{Kind: schema.String},
			Required: true}, Element: &v}
	default:
		stated, err := schema.ParseType(c.Type)
		if err != nil {
			return f, at(text, path+".type", fault.New(fault.Usage, "column %q: %s", c.Name, err))
		}
		f.Type, f.Notation, f.Pinned = stated.Type, stated.Notation, !stated.Opens()
		f.Notation.Nulls = c.Nulls
		return f, nil
	}
	if c.Type != f.Type.Kind.String() {
		return f, at(text, path+".type", fault.New(fault.Usage, "column %q has the parts of a %s, but says %s", c.Name, f.Type.Kind,
			c.Type).Try("write type: %s", f.Type.Kind))
	}
	return f, nil
}

// ColumnOf makes a column of a field.
func ColumnOf(f schema.Field) Column {
	c := Column{Name: f.Name, From: f.Origin, Required: f.Required, Comment: f.Doc, Nulls: f.Notation.Nulls,
		Type: schema.Stated{Type: f.Type, Notation: f.Notation}.String()}
	switch kind := f.Type.Kind; {
	case f.Opened:
		c.Type = "json"
	case kind == schema.Struct:
		c.Type = f.Type.Kind.String()
		for _, part := range f.Type.Fields {
			c.Fields = append(c.Fields, ColumnOf(part))
		}
	case kind == schema.List || kind == schema.Map:
		c.Type = f.Type.Kind.String()
		part := ColumnOf(*f.Type.Element)
		part.Name = ""
		if f.Type.Kind == schema.List {
			c.Element = &part
		} else {
			c.Value = &part
		}
	}
	return c
}

// Write writes a feed file. comments are put before nodes, which are named by YAML paths like $.columns.
func (f *Feed) Write(comments map[string][]string) ([]byte, error) {
	marks := yaml.CommentMap{}
	for path, lines := range comments {
		for i, line := range lines {
			lines[i] = " " + line
		}
		marks[path] = []*yaml.Comment{yaml.HeadComment(lines...)}
	}
	v := reflect.New(form)
	v.Elem().FieldByName("Version").SetInt(int64(f.Version))
	v.Elem().FieldByName("Columns").Set(reflect.ValueOf(f.Columns))
	var err error
	each(v.Elem(), func(s setting.Setting, at reflect.Value) {
		if values := f.Values[s.Key]; len(values) > 0 && !fill(at, values) {
			err = fault.New(fault.Usage, "the key %s: %q is not what it takes", s.Key, strings.Join(values, ","))
		}
	})
	if err != nil {
		return nil, err
	}
	return yaml.MarshalWithOptions(v.Interface(), yaml.WithComment(marks), yaml.IndentSequence(true))
}
