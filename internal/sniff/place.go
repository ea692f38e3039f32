package sniff

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/parse/json"
)

// beginsArray reports whether a text that begins with a bracket is JSON: delimited text may begin with one too.
func beginsArray(text []byte, whole bool) bool {
	rest := bytes.TrimLeft(text[1:], " \t\r\n")
	if len(rest) == 0 {
		return whole && len(text) > 1
	}
	if rest[0] == '{' || rest[0] == '[' || rest[0] == '"' && len(rest) != len(text)-1 {
		return true
	}
	if whole && isJSON(text) {
		return true
	}
	line, _, _ := bytes.Cut(text, []byte("\n"))
	var s json.Scanner
	s.Reset(line)
	if s.Skip(); s.Err() == nil {
		s.End()
		return s.Err() == nil
	}
	// A line that is cut off within the array, after a whole element.
	s.Reset(text)
	if s.Peek(); s.Err() != nil {
		return false
	}
	s.Open()
	for n := 0; n < 2; n++ {
		if !s.NextElement(n) {
			return false
		}
		s.Skip()
	}
	return s.Err() == nil
}

// isScalars reports whether a text, by its name, holds JSON whose first line is a scalar.
func (s Stated) isScalars(text []byte) bool {
	line, _, _ := bytes.Cut(text, []byte("\n"))
	return (s.namedLines() || s.namedDocument()) && len(line) > 0 && line[0] != '{' && line[0] != '[' && isJSON(line)
}

// isJSON reports whether a text is one JSON value.
func isJSON(text []byte) bool {
	var s json.Scanner
	s.Reset(text)
	s.Skip()
	s.End()
	return s.Err() == nil
}

// useRecords takes the stated path to the records of a JSON document.
func (r *Rules) useRecords(path string) error {
	var err error
	if r.Records, err = json.ParsePath(path); err != nil {
		return fault.New(fault.Usage, "--records %s", err).
			Try("write names and [*]: '$.data.items[*]' for the elements of an array, '$.fonts.*' for the members of an object, $ " +
				"for each document itself")
	}
	r.Format = JSON
	r.because("format", "JSON", "records inside a document are asked for")
	r.because("records", r.Records.String(), "stated")
	return nil
}

// longestLine is how much of a document without a line end is looked at before it is taken for one.
const longestLine = 16 << 20

// namedLines reports whether an object's name says that it holds JSON lines; namedDocument that it holds a document.
func (s Stated) namedLines() bool {
	return slices.Contains([]string{".jsonl", ".ndjson", ".jsonlines", ".ldjson"}, s.ending())
}

func (s Stated) namedDocument() bool {
	return slices.Contains([]string{".json", ".geojson"}, s.ending())
}

// ending is that of the object's name, without one for how it is packed.
func (s Stated) ending() string {
	name := strings.ToLower(s.Name)
	ending := path.Ext(name)
	if slices.Contains([]string{".gz", ".zst", ".bz2", ".xz", ".lz4", ".sz"}, ending) {
		ending = path.Ext(strings.TrimSuffix(name, ending))
	}
	return ending
}

// settleJSON tells JSON lines from documents, and finds the records in a single document.
func (r *Rules) settleJSON(text []byte, whole bool, stated Stated) error {
	line, rest, more := bytes.Cut(text, []byte("\n"))
	if !more && !whole && len(text) < longestLine && (text[0] == '{' || stated.namedLines()) {
		return ErrMore
	}
	var s json.Scanner
	s.Reset(line)
	s.Skip()
	s.End()
	alone := len(bytes.TrimSpace(rest)) == 0 && (more || whole)
	object := text[0] == '{'
	switch ends := json.Ends(line); {
	case ends && (!alone || stated.namedLines()) && (object || s.Err() == nil && isLine(rest)):
		r.Format, r.Values = JSONLines, !object
		reason := r.because("format", "JSON lines", "the first line is one whole value")
		if alone {
			reason.Why = "its only line is one whole value, and its name says that it holds lines"
		}
		if s.Err() != nil {
			reason.Why, reason.Unsure = "the first line begins with {", true
		}
		return nil
	}
	look := json.LookAt(text)
	what := "one document of several lines"
	if alone {
		what = "one document on one line"
	}
	r.Format = JSON
	if look.More {
		r.because("format", "JSON", "documents of several lines follow one another")
		r.because("records", "$", "each document is one")
		r.Values = look.Array
		return nil
	}
	r.Single = true
	if look.Array {
		what = "it begins with an array"
	}
	r.because("format", "JSON", "%s", what)
	return r.settlePlace(look, text, whole, alone, stated)
}

// isLine reports whether the next line is an array too.
func isLine(rest []byte) bool {
	rest = bytes.TrimLeft(rest, " \t\r\n")
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	return len(line) > 0 && line[0] == '[' && isJSON(line)
}

// settlePlace decides where the records of a single document are.
func (r *Rules) settlePlace(look json.Look, head []byte, whole, line bool, stated Stated) error {
	r.Places = look.Inner
	switch root := &look.Root; {
	case look.Array:
		r.Records, r.Values = json.Elements, 2*root.Objects < root.Count
		why := "the array's elements"
		if r.Values {
			why = fmt.Sprintf("the array's elements, which are no objects, so there is one column, %s", json.ValueColumn)
		}
		r.because("records", r.Records.String(), "%s", why)
	case isGeoJSON(look, head):
		r.GeoJSON = true
		r.place(featuresOf(look), look, "features of GeoJSON (RFC 7946)")
	case root.Records(true):
		r.Places = []*json.Place{root}
		r.place(root, look, fmt.Sprintf("%s members of the document are alike, so each is one, its key in the column %s",
			atLeast(root.Count, look.Whole), json.KeyColumn))
	case slices.ContainsFunc(stated.Lists, func(name string) bool { return slices.Contains(look.Root.Names, name) }):
		r.because("records", "$", "what is stated speaks of its members")
	case len(look.Inner) > 1 && mainPlace(look) != nil:
		r.place(mainPlace(look), look,
			"it holds nearly all of the document, and other arrays of objects no more than "+fmt.Sprint(fewRecords-1))
	case len(look.Inner) > 1 && !partsOfOne(look):
		r.ask(severalPlaces(look.Inner))
	case len(look.Inner) == 1 && !partsOfOne(look):
		r.onlyPlace(look.Inner[0], look, line, stated)
	case !look.Whole && !whole && len(head) < longestLine:
		return ErrMore
	case len(look.Lists) == 1 && look.Whole && 10*look.Lists[0].Bytes >= 9*look.Bytes:
		r.Values = true
		r.place(look.Lists[0], look, fmt.Sprintf("the document is a list of %s values but for a few bytes",
			atLeast(look.Lists[0].Count, look.Whole)))
	default:
		if line {
			r.Format, r.Single = JSONLines, true
			r.Reasons[len(r.Reasons)-1] = Reason{Rule: "format", Value: "JSON lines",
				Why: "its only line is one whole object, in which no records were found"}
			return nil
		}
		why := "no records were found in it, so the document is the record"
		if len(look.Inner) > 0 {
			why = fmt.Sprintf("it has %s, and what could be records in it, %s, are no more than %d, so the document is the record",
				someNames(besides(look.Inner[0], look)), look.Inner[0].Path, fewRecords-1)
		}
		r.because("records", "$", "%s", why)
	}
	return nil
}

// mainPlace returns the place that is that of the records beyond doubt: it holds nearly all of the document, and the others
// next to nothing.
func mainPlace(look json.Look) *json.Place {
	var main *json.Place
	for _, p := range look.Inner {
		if p.Count < fewRecords {
			continue
		}
		if main != nil {
			return nil
		}
		main = p
	}
	if main == nil || 10*main.Bytes < 9*look.Bytes {
		return nil
	}
	return main
}

// partsOfOne reports whether the few objects in a document are parts of one record, which has others besides.
func partsOfOne(look json.Look) bool {
	return look.Whole && !slices.ContainsFunc(look.Inner, func(p *json.Place) bool {
		return p.Count >= fewRecords || 10*p.Bytes >= 9*look.Bytes || len(besides(p, look)) < fewOthers
	})
}

// A place that is the only one is likely to be that of the records when it is the better part of the document, or has many; a
// document with one of few and others besides is a record itself.
const (
	mainShare  = 0.5
	sureShare  = 0.75 // below it the document may be one record
	mainCount  = 10
	fewRecords = 3
	fewOthers  = 3
)

// onlyPlace decides whether the only place of a document is that of its records, or part of one.
func (r *Rules) onlyPlace(p *json.Place, look json.Look, line bool, stated Stated) {
	share := float64(p.Bytes) / float64(max(look.Bytes, 1))
	switch {
	case line && !stated.namedDocument():
		r.ask(oneOrMany(p, look))
	case share >= mainShare || p.Count >= mainCount || len(besides(p, look)) < fewOthers:
		what := "the only array of objects found in it"
		if p.Members {
			what = fmt.Sprintf("%s members that are alike, their keys in the column %s", atLeast(p.Count, look.Whole), json.KeyColumn)
		}
		r.place(p, look, what)
	default:
		r.ask(oneOrMany(p, look))
	}
}

// place takes a place for that of the records. What of the document is no record is told.
func (r *Rules) place(p *json.Place, look json.Look, why string) {
	r.Records, r.Foreseen, r.Keys = p.Path, !look.Whole, p.Keys
	if p.Members {
		r.Keys = append([]string{json.KeyColumn}, p.Keys...)
	}
	if others := besides(p, look); len(others) > 0 {
		why += "; no part of them: " + someNames(others)
	}
	reason := r.because("records", p.Path.String(), "%s", why)
	if len(p.Path) > 1 && !r.GeoJSON && float64(p.Bytes) < sureShare*float64(look.Bytes) {
		reason.Unsure, reason.Instead = true, "--records '$' makes one record of the document"
	}
}

// besides lists the members of the document that do not lead to a place.
func besides(p *json.Place, look json.Look) (names []string) {
	if len(p.Path) < 2 {
		return nil
	}
	for _, name := range look.Root.Names {
		if !slices.Contains(p.Path[0].Names, name) {
			names = append(names, name)
		}
	}
	return names
}

// ask leaves the place of the records open.
func (r *Rules) ask(question *fault.Error) {
	r.Question = question
	r.Reasons = append(r.Reasons, Reason{Rule: "records", Value: "?", Why: "to be stated: the document " + question.Reason, Unsure: true})
}

// severalPlaces is the question which of several places is meant.
func severalPlaces(places []*json.Place) *fault.Error {
	var found []string
	for _, p := range places[:min(len(places), 8)] {
		found = append(found, describePlace(p))
	}
	if more := len(places) - len(found); more > 0 {
		found = append(found, fmt.Sprintf("and %d more", more))
	}
	return fault.New(fault.Usage, "has several places that could be those of its records: %s", strings.Join(found, "; ")).
		Try("name the one that is meant: --records '%s'; or make one record of the document: --records '$'", places[0].Path)
}

// oneOrMany is the question whether a document is one record or holds many.
func oneOrMany(p *json.Place, look json.Look) *fault.Error {
	return fault.New(fault.Usage, "could be one record, with %s; or hold records at %s", someNames(look.Root.Names), describePlace(p)).
		Try("say which: --records '$' for one record, --records '%s' for those in it", p.Path)
}

func describePlace(p *json.Place) string {
	if len(p.Keys) == 0 {
		return fmt.Sprintf("%s (%d)", p.Path, p.Count)
	}
	return fmt.Sprintf("%s (%d, with %s)", p.Path, p.Count, someNames(p.Keys))
}

func atLeast(n int, whole bool) string {
	if whole {
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("at least %d", n)
}

// isGeoJSON reports whether a document is a collection of features (RFC 7946, section 3.3).
func isGeoJSON(look json.Look, head []byte) bool {
	return slices.Contains(look.Root.Names, "type") && bytes.Contains(head, []byte(`"FeatureCollection"`)) && featuresOf(look) != nil
}

func featuresOf(look json.Look) *json.Place {
	for _, p := range look.Inner {
		if p.Path.String() == "$.features[*]" && slices.Contains(p.Keys, "geometry") && slices.Contains(p.Keys, "type") {
			return p
		}
	}
	return nil
}

// someNames lists the first few names.
func someNames(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and more"
	}
	return strings.Join(names, ", ")
}
