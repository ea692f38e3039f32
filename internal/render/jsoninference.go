package render

import (
	"encoding/json"
	"slices"

	"trevak/internal/infer"
	"trevak/internal/locate"
)

// inferenceJSON is the form of an inference for programs.
type inferenceJSON struct {
	Table       null[string]    `json:"table"`
	Objects     []objectJSON    `json:"objects"`
	Records     int64           `json:"records_read"`
	Whole       bool            `json:"all_records"`
	Unreadable  int64           `json:"records_unreadable"`
	Problem     *problemJSON    `json:"first_problem"`
	Columns     []inferredJSON  `json:"columns"`
	Keys        []keyJSON       `json:"key_candidates"`
	Partitions  []partitionJSON `json:"partition_candidates"`
	ParquetSize null[float64]   `json:"parquet_ratio"`
	Unsure      []doubtJSON     `json:"unsure"`
}

// inferredJSON is a column, or a part of one, with its evidence.
type inferredJSON struct {
	Path          string          `json:"path"`
	Name          string          `json:"name"`
	SourceName    null[string]    `json:"source_name"`
	Type          string          `json:"type"`
	WrittenAs     null[string]    `json:"written_as"`
	Pinned        bool            `json:"pinned"`
	Required      bool            `json:"required"`
	Values        int64           `json:"values"`
	Nulls         int64           `json:"nulls"`
	NullTokens    []tokenJSON     `json:"null_tokens"`
	Distinct      int64           `json:"distinct"`
	DistinctExact bool            `json:"distinct_exact"`
	Smallest      json.RawMessage `json:"smallest"`
	Largest       json.RawMessage `json:"largest"`
	Longest       int             `json:"longest"`
	SettledBy     *foundJSON      `json:"settled_by"`
	Seen          []seenJSON      `json:"seen"`
	Against       []foundJSON     `json:"against"`
	Note          null[string]    `json:"note"`
	Lengths       *lengthsJSON    `json:"lengths"`
	Parts         []inferredJSON  `json:"parts"`
}

// tokenJSON is a text that stood for no value, and how often.
type tokenJSON struct {
	Text   string `json:"text"`
	Values int64  `json:"values"`
}

// foundJSON is a value with its class and its place.
type foundJSON struct {
	placeJSON
	Class string `json:"class"`
	Value string `json:"value"`
}

// seenJSON is a class of values, how many there are, and the first of them.
type seenJSON struct {
	Values int64 `json:"values"`
	foundJSON
}

type lengthsJSON struct {
	Smallest    int   `json:"smallest"`
	Median      int   `json:"median"`
	MedianExact bool  `json:"median_exact"`
	Largest     int   `json:"largest"`
	Rows        int64 `json:"unnested_rows"`
}

type keyJSON struct {
	Column string `json:"column"`
	Why    string `json:"why"`
	Proven bool   `json:"proven"`
}

type partitionJSON struct {
	Field      string `json:"field"`
	Partitions int64  `json:"partitions"`
	Exact      bool   `json:"exact"`
	Rows       int64  `json:"rows_each"`
	Bytes      int64  `json:"each_bytes"`
	Why        string `json:"why"`
}

// InferenceJSON writes an inference for programs; of one column alone where path names it.
func InferenceJSON(s Screen, i *infer.Inference, path string) error {
	list := evidence(i)
	columns := nest(list)
	if path != "" {
		field, _, err := i.Column(path)
		if err != nil {
			return err
		}
		columns = []inferredJSON{}
		for _, c := range list {
			if at, _, err := i.Column(c.Path); err == nil && at == field {
				columns = append(columns, inferredOf(c))
			}
		}
	}
	out := inferenceJSON{Table: orNull(i.Source.Table), Objects: []objectJSON{}, Records: i.Records, Whole: i.Whole,
		Unreadable: i.Observed.Problems, Columns: columns, Keys: []keyJSON{}, Partitions: []partitionJSON{},
		ParquetSize: orNull(i.Advice.Ratio), Unsure: unsure(i.Source.Doubts())}
	var objects []locate.Object
	for _, in := range i.Source.Inputs {
		objects = append(objects, in.Object)
	}
	out.Objects = objectsJSON(objects)
	for _, k := range i.Advice.Keys {
		out.Keys = append(out.Keys, keyJSON{k.Column, k.Reason, k.Proven})
	}
	for _, p := range i.Advice.Partitions {
		out.Partitions = append(out.Partitions, partitionJSON{p.Field, p.Partitions, p.Exact, p.Rows, p.Bytes, p.Reason})
	}
	if e := i.Problem(); e != nil {
		out.Problem = problemOf(e)
	}
	return JSON(s, out)
}

// nest puts the parts of nested columns below them. list is in the order of a walk.
func nest(list []columnEvidence) []inferredJSON {
	out := []inferredJSON{}
	for at := 0; at < len(list); {
		end := at + 1
		for end < len(list) && list[end].depth > list[at].depth {
			end++
		}
		c := inferredOf(list[at])
		c.Parts = nest(list[at+1 : end])
		out = append(out, c)
		at = end
	}
	return out
}

func inferredOf(c columnEvidence) inferredJSON {
	out := inferredJSON{Path: c.Path, Name: c.Name, SourceName: orNull(c.Origin), Type: c.Type, WrittenAs: orNull(c.Format), Pinned: c.Pinned,
		Required: c.Required, Values: c.Values, Nulls: c.Nulls, NullTokens: []tokenJSON{}, Distinct: c.Distinct,
		DistinctExact: c.DistinctExact, Smallest: valueOf(c.Smallest, c.kind), Largest: valueOf(c.Largest, c.kind), Longest: c.Longest,
		Seen: []seenJSON{}, Against: []foundJSON{}, Note: orNull(c.Note), Parts: []inferredJSON{}}
	for text, values := range c.NullTokens {
		out.NullTokens = append(out.NullTokens, tokenJSON{text, values})
	}
	slices.SortFunc(out.NullTokens, func(a, b tokenJSON) int { return int(b.Values - a.Values) })
	if c.Forced != nil {
		by := foundOf(*c.Forced)
		out.SettledBy = &by
	}
	for _, f := range c.First {
		out.Seen = append(out.Seen, seenJSON{c.Seen[f.Class], foundOf(f)})
	}
	for _, a := range c.Against {
		out.Against = append(out.Against, foundOf(a))
	}
	if l := c.Lengths; l != nil {
		out.Lengths = &lengthsJSON{l.Min, l.Median, l.MedianExact, l.Max, l.Rows}
	}
	return out
}

func foundOf(p placed) foundJSON {
	return foundJSON{placeJSON{orNull(p.Location), orNull(p.Line), p.Offset}, p.Class, p.Value}
}
