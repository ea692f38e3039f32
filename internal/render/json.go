package render

import (
	"encoding/json"
	"io"
	"slices"
	"strconv"
	"time"

	"trevak/internal/locate"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/write"
)

// Results for programs have one scheme, which docs/json.md describes: what is the same has the same key everywhere, what is not there is
// null, lists are there though they are empty, sizes in bytes end in _bytes, times in _seconds, instants in _at, and ids are strings.

// JSON writes a value indented, with one line end after it.
func JSON(w io.Writer, value any) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(value)
}

// line writes a value in one line.
func line(w io.Writer, value any) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(value)
}

// null is a value that is null where it is none.
type null[T comparable] struct{ V T }

// MarshalJSON writes null for the zero value.
func (n null[T]) MarshalJSON() ([]byte, error) {
	var none T
	if n.V == none {
		return []byte("null"), nil
	}
	return json.Marshal(n.V)
}

// orNull makes a value null where it is none.
func orNull[T comparable](v T) null[T] { return null[T]{v} }

// idText writes an id, which may be beyond what the numbers of some programs hold exactly.
func idText(n int64) null[string] {
	if n == 0 {
		return null[string]{}
	}
	return null[string]{strconv.FormatInt(n, 10)}
}

// valueOf writes a text as a number where it is one that JSON has, and its column is one of numbers; without a text it is null. Of
// decimals a program could lose digits, so they stay texts.
func valueOf(text string, kind schema.Kind) json.RawMessage {
	out := []byte(text)
	switch {
	case text == "":
		return json.RawMessage("null")
	case slices.Contains([]schema.Kind{schema.Int, schema.Long, schema.Float, schema.Double, schema.Boolean}, kind) && json.Valid(out):
		return out
	}
	out, err := json.Marshal(text)
	if err != nil {
		return json.RawMessage("null")
	}
	return out
}

// orEmpty makes a missing list an empty one, which programs tell apart.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// objectJSON is an object of a source, without what became of its records.
type objectJSON struct {
	Location   string     `json:"location"`
	SizeBytes  int64      `json:"size_bytes"`
	ModifiedAt *time.Time `json:"modified_at"`
}

func objectsJSON(list []locate.Object) []objectJSON {
	out := []objectJSON{}
	for _, o := range list {
		out = append(out, objectJSON{o.Location, o.Size, instantOf(o.Modified)})
	}
	return out
}

// instantOf is nil for the zero time.
func instantOf(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	at = at.UTC()
	return &at
}

// placeJSON is where something is in the source.
type placeJSON struct {
	Object     null[string] `json:"object"`
	Line       null[int64]  `json:"line"`
	ByteOffset *int64       `json:"byte_offset"`
}

type passedJSON struct {
	Location string `json:"location"`
	What     string `json:"what"`
}

func passedOver(list []locate.Passed) []passedJSON {
	out := []passedJSON{}
	for _, p := range list {
		out = append(out, passedJSON(p))
	}
	return out
}

type doubtJSON struct {
	Object  string       `json:"object"`
	Count   int          `json:"object_count"`
	Rule    string       `json:"rule"`
	Value   string       `json:"value"`
	Why     string       `json:"why"`
	Instead null[string] `json:"instead"`
}

func unsure(list []source.Doubt) []doubtJSON {
	out := []doubtJSON{}
	for _, d := range list {
		out = append(out, doubtJSON{d.Location, d.Objects, d.Rule, d.Value, d.Why, orNull(d.Instead)})
	}
	return out
}

type ruleJSON struct {
	Rule   string `json:"rule"`
	Value  string `json:"value"`
	Why    string `json:"why"`
	Unsure bool   `json:"unsure"`
	// Asked says that it must be stated, or --unsure go, and Instead what gives the other reading.
	Asked   bool         `json:"asked"`
	Instead null[string] `json:"instead"`
}

func rulesJSON(rules []sniff.Reason) []ruleJSON {
	out := []ruleJSON{}
	for _, r := range rules {
		out = append(out, ruleJSON{r.Rule, r.Value, r.Why, r.Unsure, r.Asked, orNull(r.Instead)})
	}
	return out
}

type driftJSON struct {
	Difference string       `json:"difference"`
	Column     string       `json:"column"`
	SourceName null[string] `json:"source_name"`
	TypeBefore null[string] `json:"type_before"`
	TypeAfter  null[string] `json:"type_after"`
	Records    null[int64]  `json:"record_count"`
	Object     null[string] `json:"object"`
	Line       null[int64]  `json:"line"`
	Value      null[string] `json:"value"`
}

func driftsJSON(list []schema.Difference) []driftJSON {
	out := []driftJSON{}
	for _, d := range list {
		out = append(out, driftJSON{d.Kind, d.Column, orNull(d.From), orNull(d.Was), orNull(d.Is), orNull(d.Records), orNull(d.Location),
			orNull(d.Line), orNull(d.Value)})
	}
	return out
}

type reasonJSON struct {
	Reason  string      `json:"reason"`
	Records int64       `json:"record_count"`
	Object  string      `json:"object"`
	Line    null[int64] `json:"line"`
	Message string      `json:"message"`
}

func reasonsJSON(list []write.ReasonGroup) []reasonJSON {
	out := []reasonJSON{}
	for _, g := range list {
		out = append(out, reasonJSON{string(g.Reason), g.Records, g.Location, orNull(g.Line), g.Message})
	}
	return out
}
