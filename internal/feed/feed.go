// Package feed reads and writes feed files: everything that was settled about one flow of files into a table, in YAML.
//
// What comes in is a file's text; what goes out is a Feed, or an error that names the line. Writing is the other way round.
package feed

import (
	"bytes"
	"context"
	_ "embed" // for the JSON Schema
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// Version is the version of the form of feed files that is written.
const Version = 1

// JSONSchema describes feed files to editors (JSON Schema, draft 2020-12).
//
//go:embed feed.schema.json
var JSONSchema []byte

// Feed describes one flow. What is absent is decided from the data, or is the usual.
type Feed struct {
	Version int     `yaml:"feed"`
	Source  Source  `yaml:"source,omitempty"`
	Reading Reading `yaml:"reading,omitempty"`
	// Columns are in the order of the table.
	Columns []Column `yaml:"columns,omitempty"`
	// Drop and Only are columns of the source, by name, that are not wanted, or alone are.
	Drop []string `yaml:"drop,omitempty"`
	Only []string `yaml:"only,omitempty"`
	// Key are the columns that tell one record from all others.
	Key []string `yaml:"key,omitempty"`
	// Names is how the names of columns that are not listed are made: safe, keep or snake.
	Names  string `yaml:"names,omitempty"`
	Shape  Shape  `yaml:"shape,omitempty"`
	Table  Table  `yaml:"table,omitempty"`
	Limits Limits `yaml:"limits,omitempty"`

	text []byte
}

// Source is where the records come from.
type Source struct {
	Files       []string `yaml:"files,omitempty"`
	PathColumns string   `yaml:"path_columns,omitempty"`
	// PartitionValues are columns with one value, each as column=value.
	PartitionValues []string `yaml:"partition_values,omitempty"`
	Lineage         *bool    `yaml:"lineage,omitempty"`
	KeepRaw         *bool    `yaml:"keep_raw,omitempty"`
	AllowExpansion  *bool    `yaml:"allow_expansion,omitempty"`
	// MixedFiles reads files together that share no column; Timeout is how long a server may send next to nothing, like 30s.
	MixedFiles *bool  `yaml:"mixed_files,omitempty"`
	Timeout    string `yaml:"timeout,omitempty"`
}

// Shape is what form rows get. The columns above are those of the records; Rename is of the columns that came of them.
type Shape struct {
	Where           string   `yaml:"where,omitempty"`
	Unnest          []string `yaml:"unnest,omitempty"`
	UnnestIndex     *bool    `yaml:"unnest_index,omitempty"`
	UnnestCount     *bool    `yaml:"unnest_count,omitempty"`
	UnnestEmpty     string   `yaml:"unnest_empty,omitempty"`
	ConfirmMultiply *bool    `yaml:"confirm_multiply,omitempty"`
	// Nested is keep or flatten, Lists keep or json.
	Nested        string   `yaml:"nested,omitempty"`
	PathSeparator string   `yaml:"path_separator,omitempty"`
	FlattenDepth  *int     `yaml:"flatten_depth,omitempty"`
	Lists         string   `yaml:"lists,omitempty"`
	Derive        []string `yaml:"derive,omitempty"`
	Nest          []string `yaml:"nest,omitempty"`
	NestRows      string   `yaml:"nest_rows,omitempty"`
	NestKey       string   `yaml:"nest_key,omitempty"`
	// Split are lists that load puts into tables of their own, as list=table.
	Split  []string `yaml:"split,omitempty"`
	Rename []string `yaml:"rename,omitempty"`
}

// Reading is the reading rules that are stated.
type Reading struct {
	Encoding      string   `yaml:"encoding,omitempty"`
	Records       string   `yaml:"records,omitempty"`
	XMLPrefixes   *bool    `yaml:"xml_prefixes,omitempty"`
	MixedContent  string   `yaml:"mixed_content,omitempty"`
	JSONNumbers   string   `yaml:"json_numbers,omitempty"`
	Geometry      string   `yaml:"geometry,omitempty"`
	Unsure        string   `yaml:"unsure,omitempty"`
	Widths        []int    `yaml:"widths,omitempty"`
	Delimiter     string   `yaml:"delimiter,omitempty"`
	Quote         string   `yaml:"quote,omitempty"`
	Escape        string   `yaml:"escape,omitempty"`
	Comment       string   `yaml:"comment,omitempty"`
	HeaderRows    *int     `yaml:"header_rows,omitempty"`
	Columns       []string `yaml:"columns,omitempty"`
	SkipRows      *int     `yaml:"skip_rows,omitempty"`
	SkipBlankRows *bool    `yaml:"skip_blank_rows,omitempty"`
	Trim          *bool    `yaml:"trim,omitempty"`
	Ragged        string   `yaml:"ragged,omitempty"`
	DecimalMark   string   `yaml:"decimal_mark,omitempty"`
	// Mixed is text or misfit.
	Mixed string   `yaml:"mixed,omitempty"`
	Nulls []string `yaml:"nulls,omitempty"`
	Scan  string   `yaml:"scan,omitempty"`
}

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

// Table is where the records go.
type Table struct {
	Into      string `yaml:"into,omitempty"`
	Partition string `yaml:"partition,omitempty"`
	Sort      string `yaml:"sort,omitempty"`
	FileSize  string `yaml:"file_size,omitempty"`
	RowGroup  string `yaml:"row_group,omitempty"`
	// Format is that of the data files: parquet, orc or avro.
	Format string `yaml:"format,omitempty"`
	Codec  string `yaml:"codec,omitempty"`
	// PageVersion is that of Parquet's data pages.
	PageVersion *int `yaml:"page_version,omitempty"`
	// Favor is what codecs chosen by trial favor.
	Favor string `yaml:"favor,omitempty"`
	// Bloom are columns that get Bloom filters.
	Bloom []string `yaml:"bloom,omitempty"`
	Drift string   `yaml:"drift,omitempty"`
}

// Limits bound what may go wrong, and what a record may take.
type Limits struct {
	Tolerate        string `yaml:"tolerate,omitempty"`
	TolerateMisfits string `yaml:"tolerate_misfits,omitempty"`
	MaxRecord       *int   `yaml:"max_record,omitempty"`
	MaxColumns      *int   `yaml:"max_columns,omitempty"`
	MaxDepth        *int   `yaml:"max_depth,omitempty"`
}

// Read reads a feed file.
func Read(ctx context.Context, s storage.Store, path string) (*Feed, error) {
	text, err := readBounded(ctx, s, path)
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the feed file %s cannot be read", path)
	}
	f, err := Parse(text)
	var e *fault.Error
	if errors.As(err, &e) {
		return nil, e.In(path)
	}
	return f, err
}

// Parse reads a feed file's text. Errors name the line.
func Parse(text []byte) (*Feed, error) {
	f := &Feed{text: text}
	if err := plausible(text); err != nil {
		return nil, err
	}
	if err := decode(text, f); err != nil {
		return nil, syntax(err)
	}
	if f.Version != Version {
		return nil, at(text, "$.feed", fault.New(fault.Usage, "the form of feed files is %d, this file says %d", Version, f.Version).Try("begin the file with: feed: %d", Version))
	}
	names := map[string]bool{}
	for i, c := range f.Columns {
		path := fmt.Sprintf("$.columns[%d]", i)
		if c.Name == "" {
			return nil, at(text, path, fault.New(fault.Usage, "the column has no name").Try("give each column a name and a type"))
		}
		if names[c.Name] {
			return nil, at(text, path, fault.New(fault.Usage, "the column %q is there twice", c.Name).Try("keep one of them"))
		}
		names[c.Name] = true
		if _, err := c.field(text, path); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// decode fills a feed. The library panics on some texts that are no YAML.
func decode(text []byte, f *Feed) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	return yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(f)
}

// syntax makes an error of one of the YAML library's.
func syntax(err error) error {
	e := fault.New(fault.Usage, "is no feed file: %s", err)
	var y yaml.Error
	if errors.As(err, &y) {
		e.Reason = "is no feed file: " + y.GetMessage()
		if token := y.GetToken(); token != nil {
			e.Line = int64(token.Position.Line)
		}
	}
	return e.Try("the keys are described in docs/schema.md, and for editors by: trevak feed schema")
}

// Line returns the line of a key, which is named by its path with points; 0 where it is not in the file.
func (f *Feed) Line(key string) int64 { return at(f.text, "$."+key, &fault.Error{}).Line }

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
		f.Type = schema.Type{Kind: schema.Map, Key: &schema.Field{Name: schema.KeyName, Type: schema.Type{Kind: schema.String}, Required: true}, Element: &v}
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
		return f, at(text, path+".type", fault.New(fault.Usage, "column %q has the parts of a %s, but says %s", c.Name, f.Type.Kind, c.Type).Try("write type: %s", f.Type.Kind))
	}
	return f, nil
}

// ColumnOf makes a column of a field.
func ColumnOf(f schema.Field) Column {
	c := Column{Name: f.Name, From: f.Origin, Required: f.Required, Comment: f.Doc, Nulls: f.Notation.Nulls, Type: schema.Stated{Type: f.Type, Notation: f.Notation}.String()}
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
	return yaml.MarshalWithOptions(f, yaml.WithComment(marks), yaml.IndentSequence(true))
}
