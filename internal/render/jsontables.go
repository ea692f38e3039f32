package render

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/inspect"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// fieldJSON is a column or a part of one in a schema.
type fieldJSON struct {
	ID         null[string] `json:"id"`
	Path       string       `json:"path"`
	Type       string       `json:"type"`
	Required   bool         `json:"required"`
	SourceName null[string] `json:"source_name"`
	Format     null[string] `json:"written_as"`
	Nulls      []string     `json:"null_texts"`
	Longest    null[int]    `json:"longest"`
	Comment    null[string] `json:"comment"`
}

func fieldsJSON(sc schema.Schema) []fieldJSON {
	out := []fieldJSON{}
	sc.Walk(func(path string, f *schema.Field) {
		out = append(out, fieldJSON{idText(int64(f.ID)), path, f.Type.String(), f.Required, orNull(f.Origin), orNull(f.Notation.Format),
			orEmpty(f.Notation.Nulls), orNull(f.Longest), orNull(f.Doc)})
	})
	return out
}

// summaryJSON is what is told of a table wherever it is told of.
type summaryJSON struct {
	Table       string       `json:"table"`
	Location    null[string] `json:"location"`
	Rows        int64        `json:"rows"`
	DataFiles   int          `json:"data_files"`
	SizeBytes   int64        `json:"size_bytes"`
	Partitioned null[string] `json:"partitioned_by"`
	Sorted      null[string] `json:"sorted_by"`
	CommittedAt *time.Time   `json:"committed_at"`
	Deletes     bool         `json:"has_delete_files"`
}

func summaryOf(t *inspect.TableInfo) summaryJSON {
	var at time.Time
	if t.LastCommit != nil {
		at = *t.LastCommit
	}
	return summaryJSON{t.Name, orNull(t.Location), t.Rows, t.Files, t.Bytes, orNull(t.Partitioning), orNull(t.Sort), instantOf(at), t.Deletes}
}

// TablesJSON writes the tables for programs.
func TablesJSON(s Screen, warehouse string, list []*inspect.TableInfo) error {
	type entry struct {
		summaryJSON
		Problem *problemJSON `json:"problem"`
	}
	out := struct {
		Warehouse string  `json:"warehouse"`
		Tables    []entry `json:"tables"`
	}{warehouse, []entry{}}
	for _, t := range list {
		e := entry{summaryOf(t), nil}
		if t.Error != nil {
			e.Problem = anyProblem(t.Error)
		}
		out.Tables = append(out.Tables, e)
	}
	return JSON(s, out)
}

// storedJSON is how a column lies in files.
type storedJSON struct {
	SizeBytes int64    `json:"size_bytes"`
	RawBytes  int64    `json:"raw_bytes"`
	Codecs    []string `json:"codecs"`
	Encodings []string `json:"encodings"`
}

type describedJSON struct {
	fieldJSON
	storedJSON
}

type snapshotJSON struct {
	ID          null[string] `json:"snapshot_id"`
	CommittedAt *time.Time   `json:"committed_at"`
	Operation   string       `json:"operation"`
	AddedRows   int64        `json:"rows_added"`
	AddedFiles  int64        `json:"data_files_added"`
	Rows        *int64       `json:"rows"`
}

// TableInfoJSON writes everything about one table for programs.
func TableInfoJSON(s Screen, t *inspect.TableInfo) error {
	out := struct {
		summaryJSON
		FormatVersion string          `json:"format_version"`
		Formats       []string        `json:"formats"`
		RawBytes      int64           `json:"raw_bytes"`
		Examined      int             `json:"data_files_examined"`
		Columns       []describedJSON `json:"columns"`
		Snapshots     []snapshotJSON  `json:"snapshots"`
	}{summaryOf(t), idText(int64(t.FormatVersion)).V, orEmpty(t.Formats), t.RawBytes, t.FilesExamined, []describedJSON{}, []snapshotJSON{}}
	for _, c := range t.Columns {
		out.Columns = append(out.Columns, describedJSON{fieldJSON{ID: idText(int64(c.ID)), Path: c.Path, Type: c.Type, Required: c.Required,
			SourceName: orNull(c.Origin), Nulls: []string{}, Longest: orNull(c.Longest)},
			storedJSON{c.Bytes, c.RawBytes, orEmpty(c.Codecs), orEmpty(c.Encodings)}})
	}
	for _, snap := range t.Snapshots {
		then := &snap.Rows
		if snap.Open {
			then = nil
		}
		out.Snapshots = append(out.Snapshots, snapshotJSON{idText(snap.ID), instantOf(snap.Committed), snap.Operation, snap.AddedRows,
			snap.AddedFiles, then})
	}
	return JSON(s, out)
}

// leafJSON is a leaf column of a file.
type leafJSON struct {
	ID       null[string]    `json:"id"`
	Path     string          `json:"path"`
	Type     null[string]    `json:"type"`
	Stored   string          `json:"stored_as"`
	Values   int64           `json:"values"`
	Nulls    int64           `json:"nulls"`
	Smallest json.RawMessage `json:"smallest"`
	Largest  json.RawMessage `json:"largest"`
	Bounds   bool            `json:"has_bounds"`
	Bloom    bool            `json:"has_bloom_filter"`
	Pages    int64           `json:"data_pages"`
	storedJSON
}

type groupJSON struct {
	Rows     int64 `json:"rows"`
	Bytes    int64 `json:"size_bytes"`
	RawBytes int64 `json:"raw_bytes"`
}

type keySizeJSON struct {
	Name  string `json:"name"`
	Bytes int    `json:"size_bytes"`
}

// FileInfoJSON writes how a file is built for programs.
func FileInfoJSON(s Screen, l columnar.Layout, sc schema.Schema) error {
	out := struct {
		Location  string        `json:"location"`
		Format    string        `json:"format"`
		Version   null[string]  `json:"format_version"`
		SizeBytes int64         `json:"size_bytes"`
		Rows      int64         `json:"rows"`
		CreatedBy null[string]  `json:"created_by"`
		Keys      []keySizeJSON `json:"metadata_keys"`
		Groups    []groupJSON   `json:"row_groups"`
		Columns   []leafJSON    `json:"columns"`
	}{l.Location, l.Format, orNull(l.Version), l.Bytes, l.Rows, orNull(l.CreatedBy), []keySizeJSON{}, []groupJSON{}, []leafJSON{}}
	for k, n := range l.Keys {
		out.Keys = append(out.Keys, keySizeJSON{k, n})
	}
	slices.SortFunc(out.Keys, func(a, b keySizeJSON) int { return strings.Compare(a.Name, b.Name) })
	for _, g := range l.Groups {
		out.Groups = append(out.Groups, groupJSON(g))
	}
	kinds := leafKinds(sc)
	for i, c := range l.Columns {
		var kind schema.Type
		name := ""
		if i < len(kinds) {
			kind = kinds[i]
			name = kind.String()
		}
		out.Columns = append(out.Columns, leafJSON{idText(int64(c.ID)), c.Path, orNull(name), c.Type, c.Values, c.Nulls,
			valueOf(c.Smallest, kind.Kind), valueOf(c.Largest, kind.Kind), c.HasMinMax, c.Bloom, c.Pages,
			storedJSON{c.Bytes, c.RawBytes, orEmpty(c.Codecs), orEmpty(c.Encodings)}})
	}
	return JSON(s, out)
}

type versionJSON struct {
	ID          string       `json:"schema_id"`
	Current     bool         `json:"current"`
	CommittedAt *time.Time   `json:"committed_at"`
	Cause       null[string] `json:"cause"`
	Changes     []string     `json:"changes"`
	Columns     []fieldJSON  `json:"columns"`
}

// SchemaJSON writes a table's schema and its history for programs.
func SchemaJSON(s Screen, t *table.Table, versions []table.Version) error {
	out := struct {
		Table    string        `json:"table"`
		Key      []string      `json:"key"`
		Columns  []fieldJSON   `json:"columns"`
		Versions []versionJSON `json:"versions"`
	}{t.Name.String(), orEmpty(t.Schema.Key), fieldsJSON(t.Schema), []versionJSON{}}
	for i, v := range versions {
		var at time.Time
		if v.At != nil {
			at = *v.At
		}
		out.Versions = append(out.Versions, versionJSON{strconv.Itoa(v.ID), v.Current, instantOf(at), orNull(v.Cause),
			orEmpty(changes(versions, i)), fieldsJSON(v.Schema)})
	}
	return JSON(s, out)
}
