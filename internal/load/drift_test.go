package load_test

import (
	"context"
	stdjson "encoding/json"
	"errors"
	"fmt"
	"math/rand"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// driftNotes are values that batches are made of: numbers, dates, words, and some that go badly together.
var driftValues = []string{"5", "12", "-3", "2.5", "12.50", "deep", "true", "no", "2031-05-01", "99999999999999999999", "1e3", "007",
	"a, b", "9007199254740993", "0.1", "23/04/2031"}

// driftRecord is a record as column and value; id tells it from all others.
type driftRecord map[string]string

// randomBatch makes a file of records with some of the columns, as delimited text or JSON lines.
func randomBatch(random *rand.Rand, number int) (name string, records []driftRecord) {
	columns := []string{"id"}
	for _, c := range []string{"depth", "Sea Area", "note", "level (m)", "when", "pos.x", "pos.y"} {
		if random.Intn(3) > 0 {
			columns = append(columns, c)
		}
	}
	random.Shuffle(len(columns), func(i, j int) { columns[i], columns[j] = columns[j], columns[i] })
	// Each column of a batch has values of few sorts, so that types come about.
	sorts := map[string][]string{}
	for _, c := range columns {
		for range 1 + random.Intn(3) {
			sorts[c] = append(sorts[c], driftValues[random.Intn(len(driftValues))])
		}
	}
	for row := range 1 + random.Intn(6) {
		r := driftRecord{"id": fmt.Sprintf("r%d-%d", number, row)}
		for _, c := range columns {
			if c != "id" && random.Intn(6) > 0 {
				r[c] = sorts[c][random.Intn(len(sorts[c]))]
			}
		}
		records = append(records, r)
	}
	var text strings.Builder
	if random.Intn(2) == 0 {
		var flat []string
		for _, c := range columns {
			if random.Intn(4) == 0 && c != "id" {
				c = strings.ToUpper(c)
			}
			flat = append(flat, c)
		}
		text.WriteString(strings.Join(flat, ";") + "\n")
		for _, r := range records {
			for i, c := range columns {
				if i > 0 {
					text.WriteByte(';')
				}
				text.WriteString(r[c])
			}
			text.WriteByte('\n')
		}
		name = fmt.Sprintf("%d.csv", number)
		return name, kept(name, text.String(), records)
	}
	for _, r := range records {
		object := map[string]any{}
		for c, v := range r {
			var value any = v
			if _, err := strconv.ParseFloat(v, 64); err == nil && v != "007" && random.Intn(2) == 0 {
				value = stdjson.Number(v)
			}
			if parent, part, ok := strings.Cut(c, "."); ok {
				if object[parent] == nil {
					object[parent] = map[string]any{}
				}
				object[parent].(map[string]any)[part] = value
			} else {
				object[c] = value
			}
		}
		line, err := stdjson.Marshal(object)
		if err != nil {
			panic(err)
		}
		text.Write(append(line, '\n'))
	}
	name = fmt.Sprintf("%d.ndjson", number)
	return name, kept(name, text.String(), records)
}

// kept writes a batch's file.
func kept(name, text string, records []driftRecord) []driftRecord {
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		panic(err)
	}
	return records
}

// flatten puts the members of nested values beside the others, by their path.
func flatten(out map[string]string, path string, value any) {
	switch v := value.(type) {
	case map[string]any:
		for k, part := range v {
			flatten(out, path+"."+k, part)
		}
	case nil:
	default:
		out[path] = fmt.Sprint(v)
	}
}

// tableValues reads a table through the field ids of its files: for each row the values by column, and its misfits.
func tableValues(t *testing.T, l load.Request) (values, misfits map[string]map[string]string) {
	t.Helper()
	found, err := l.Warehouse.Find(t.Context(), l.Into)
	if err != nil {
		t.Fatal(err)
	}
	names := map[int]string{}
	for _, f := range found.Schema.Fields {
		names[f.ID] = f.Name
	}
	files, err := found.Files(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	values, misfits = map[string]map[string]string{}, map[string]map[string]string{}
	for _, file := range files {
		f, err := columnar.Open(context.Background(), storage.Disk{}, file.URI)
		if err != nil {
			t.Fatal(err)
		}
		err = f.Batches(context.Background(), func(b arrow.RecordBatch) error {
			for row := range int(b.NumRows()) {
				got, kept := map[string]string{}, map[string]string{}
				for c := range int(b.NumCols()) {
					name := names[f.Schema.Fields[c].ID]
					if b.Column(c).IsNull(row) || name == "" {
						continue
					}
					text := b.Column(c).ValueStr(row)
					var nested any
					switch {
					case name == schema.MisfitColumn:
						d := stdjson.NewDecoder(strings.NewReader(text))
						d.UseNumber()
						var object map[string]any
						if err := d.Decode(&object); err != nil {
							return fmt.Errorf("misfit %q: %w", text, err)
						}
						for k, v := range object {
							kept[k] = fmt.Sprint(v)
						}
					case strings.HasPrefix(text, "{") && stdjson.Unmarshal([]byte(text), &nested) == nil:
						flatten(got, name, nested)
					default:
						got[name] = text
					}
				}
				values[got["id"]], misfits[got["id"]] = got, kept
			}
			return nil
		})
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
	}
	return values, misfits
}

// sameValue reports whether a value of a table is what a raw text says.
func sameValue(raw, got string) bool {
	if raw == got {
		return true
	}
	a, err1 := strconv.ParseFloat(raw, 64)
	b, err2 := strconv.ParseFloat(got, 64)
	if err1 == nil && err2 == nil && a == b {
		return true
	}
	// A boolean column takes yes and no, a date column days in another order.
	return raw == "no" && got == "false" || raw == "23/04/2031" && strings.HasPrefix(got, "2031-04-23") ||
		strings.HasPrefix(got, raw+"T00:00") || strings.HasPrefix(got, raw+" 00:00")
}

// TestDriftLosesNothing loads batches whose columns and types differ, in any order and under any policy, and looks for every
// value afterwards: in its column, among the misfits, or in a load that was refused as a whole.
func TestDriftLosesNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("many loads")
	}
	for seed := range int64(60) {
		random := rand.New(rand.NewSource(seed))
		t.Chdir(t.TempDir())
		var loaded []driftRecord
		for n := range 2 + random.Intn(5) {
			name, records := randomBatch(random, n)
			l := loading(t, "", name)
			l.Drift = load.Drift(random.Intn(3))
			report, err := load.Load(t.Context(), l, run.DefaultBudget())
			var drift *write.DriftError
			if errors.As(err, &drift) && l.Drift == load.Stop && n > 0 {
				if len(drift.Differences) == 0 || fault.KindOf(err) != fault.Schema {
					t.Fatalf("seed %d, %s: %v", seed, name, err)
				}
				continue
			}
			if err != nil {
				t.Fatalf("seed %d, %s under %s: %v", seed, name, l.Drift, err)
			}
			if report.RowsWritten != int64(len(records)) {
				t.Fatalf("seed %d, %s: %d rows of %d records", seed, name, report.RowsWritten, len(records))
			}
			loaded = append(loaded, records...)
		}
		values, misfits := tableValues(t, loading(t, ""))
		if len(values) != len(loaded) {
			t.Fatalf("seed %d: %d rows of %d records", seed, len(values), len(loaded))
		}
		for _, r := range loaded {
			got, kept := values[r["id"]], misfits[r["id"]]
			for column, raw := range r {
				if !held(column, raw, got, kept) {
					t.Fatalf("seed %d: %s of %s, %q, is lost\ncolumns %v\nmisfits %v", seed, column, r["id"], raw, got, kept)
				}
			}
		}
	}
}

// held looks for a value in the columns it could be in.
func held(column, raw string, got, kept map[string]string) bool {
	legal := schema.SafeNames.Make([]string{column})[0]
	for _, values := range []map[string]string{got, kept} {
		for name, value := range values {
			if (strings.EqualFold(name, column) || strings.EqualFold(name, legal)) && sameValue(raw, value) {
				return true
			}
		}
	}
	// A member that was kept aside together with the object it belongs to, and the reverse.
	parent, part, nested := strings.Cut(column, ".")
	return nested && (strings.Contains(kept[parent], part+":"+raw) || strings.Contains(got[parent], raw))
}

// driftText is records for the benchmarks of inference and of parsing into typed columns.
func driftText(b *testing.B) *infer.Data {
	line := "100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,2026-03-04,3.250,1003.21,9.4,true,\"hull fouled, cleaned\",77\n"
	var text strings.Builder
	text.WriteString("id,Buoy Code,Sea Area,kind,at,day,height (m),pressure,temp,ok,note,battery\n")
	for i := range 200_000 {
		fmt.Fprintf(&text, "%d,OS-%04d%s%s", 100_000+i, i%3000, line[14:29],
			strings.Replace(line[29:], "3.250", fmt.Sprintf("%.3f", float64(i%9999)/1000), 1))
	}
	testfolder.Make(b, map[string]string{"in.csv": text.String()})
	r := reading("in.csv")
	s, err := infer.Survey(b.Context(), &r, run.DefaultBudget())
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(text.Len()))
	return s
}

// BenchmarkWholeInference infers from every record; it is to be held against BenchmarkTypedParsing.
func BenchmarkWholeInference(b *testing.B) {
	s := driftText(b)
	for b.Loop() {
		if _, err := s.All(b.Context(), infer.Reading{}, run.DefaultBudget()); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkTypedParsing parses every record into typed columns, and does nothing with them.
func BenchmarkTypedParsing(b *testing.B) {
	s := driftText(b)
	i, err := s.All(b.Context(), infer.Reading{}, run.DefaultBudget())
	if err != nil {
		b.Fatal(err)
	}
	r := scan.Request{Target: scan.Target{Schema: i.Schema, Unknown: fit.UnknownKept}, Budget: run.DefaultBudget()}
	for b.Loop() {
		err := s.Rows.Read(b.Context(), r, func(rows *scan.Rows) error {
			if rows.Batch == nil {
				return errors.New("a value does not fit")
			}
			return nil
		})
		if err != nil {
			b.Fatal(err)
		}
	}
}

// TestWhateverTheSampleShows loads files whose odd values stand far from their beginning: the schema must be that of a full scan.
func TestWhateverTheSampleShows(t *testing.T) {
	if testing.Short() {
		t.Skip("many loads")
	}
	var filler strings.Builder
	for i := range 300_000 {
		fmt.Fprintf(&filler, "%d,3/4/2031,f,1.25,-\n", i)
	}
	head := "id,day,flag,level,gap\n"
	for name, tail := range map[string]string{
		"decided late": "x7,23/04/2031,t,9007199254740993,5\n", "never decided": "1,2/2/2031,f,2.5,NA\n",
		"quoted": "\"1\n2\",\"4/5/2031\",t,\"deep\",\"a\nb\"\n",
	} {
		testfolder.Make(t, map[string]string{"in.csv": head + filler.String() + tail + filler.String()})
		sampled, full := loading(t, "", "in.csv"), loading(t, "", "in.csv")
		full.Scan = infer.ScanFull
		var err error
		if full.Into, err = table.ParseName("ops.full"); err != nil {
			t.Fatal(err)
		}
		for _, l := range []load.Request{sampled, full} {
			if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		if a, b := schemaText(t, sampled), schemaText(t, full); a != b {
			t.Errorf("%s: from a sample\n%s\nfrom everything\n%s", name, a, b)
		}
	}
}

func schemaText(t *testing.T, l load.Request) string {
	t.Helper()
	found, err := l.Warehouse.Find(t.Context(), l.Into)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	found.Schema.Walk(func(path string, f *schema.Field) {
		out = append(out, fmt.Sprint(path, " ", schema.Stated{Type: f.Type, Notation: f.Notation}, f.Notation.Nulls, f.Longest))
	})
	return strings.Join(out, "\n")
}
