package cli

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// sentReading is a row that an element of a record's list becomes.
type sentReading struct {
	ID      int      `json:"id"`
	Code    *string  `json:"buoy_code"`
	Lat     *float64 `json:"buoy_pos_lat"`
	Index   *int     `json:"readings_index"`
	Count   *int     `json:"readings_count"`
	Sensor  *string  `json:"readings_sensor"`
	Value   *float64 `json:"readings_value"`
	OK      *bool    `json:"readings_ok"`
	Battery *int     `json:"battery"`
	Note    *string  `json:"note"`
}

// TestManyBlocksInAnotherForm makes rows of the lists of records that take many blocks, whose memory is used again and again,
// and holds each against what was sent: texts that repeat and such that do not, nulls, absent members, empty lists and none.
func TestManyBlocksInAnotherForm(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 12))
	var text strings.Builder
	var want []sentReading
	for id := range 60_000 {
		r := sentReading{ID: id}
		member := func(name string, there bool, value any) string {
			if !there {
				return []string{"", `"` + name + `":null,`}[random.IntN(2)]
			}
			encoded, err := json.Marshal(value)
			if err != nil {
				t.Fatal(err)
			}
			return `"` + name + `":` + string(encoded) + ","
		}
		if random.IntN(9) > 0 {
			code := fmt.Sprintf("OS-%04d", random.IntN(300))
			r.Code = &code
		}
		if random.IntN(9) > 0 {
			lat := float64(random.IntN(1_000_000)) / 1000
			r.Lat = &lat
		}
		if random.IntN(4) > 0 {
			battery := random.IntN(101)
			r.Battery = &battery
		}
		if random.IntN(2) > 0 {
			note := fmt.Sprintf("swell %x \"north\"", random.Uint32()>>uint(random.IntN(30)))
			r.Note = &note
		}
		fmt.Fprintf(&text, `{"id":%d,"buoy":{%s"pos":{%s"z":0},"y":1},`, id, member("code", r.Code != nil, r.Code),
			member("lat", r.Lat != nil, r.Lat))
		if n := random.IntN(6) - 1; n < 0 {
			want = append(want, r)
		} else {
			var elements []string
			for i := range n {
				e := r
				e.Index, e.Count = &i, &n
				sensor, value, ok := []string{"depth", "temp", "wind"}[random.IntN(3)], float64(random.IntN(5000))/8, random.IntN(3) > 0
				if e.Sensor = &sensor; random.IntN(20) == 0 {
					e.Sensor = nil
				}
				if e.Value = &value; random.IntN(20) == 0 {
					e.Value = nil
				}
				e.OK = &ok
				elements = append(elements, "{"+member("sensor", e.Sensor != nil, e.Sensor)+member("value", e.Value != nil,
					e.Value)+fmt.Sprintf(`"ok":%t}`, ok))
				want = append(want, e)
			}
			if n == 0 {
				r.Count = &n
				want = append(want, r)
			}
			fmt.Fprintf(&text, `"readings":[%s],`, strings.Join(elements, ","))
		}
		fmt.Fprintf(&text, "%s%s\"end\":true}\n", member("battery", r.Battery != nil, r.Battery), member("note", r.Note != nil, r.Note))
	}
	testfolder.Make(t, map[string]string{"in.ndjson": text.String()})
	form := []string{"--unnest", "readings", "--unnest-index", "--unnest-count", "--nested", "flatten"}
	must(t, append([]string{"convert", "in.ndjson", "--to", "rows.parquet"}, form...), "60,000 read = 60,000 kept")
	must(t, append([]string{"convert", "in.ndjson", "--to", "lineage.parquet", "--lineage"}, form...), "60,000 read = 60,000 kept")
	for _, name := range []string{"rows", "lineage"} {
		must(t, []string{"convert", name + ".parquet", "--to", name + ".ndjson"})
		file, err := os.Open(name + ".ndjson")
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		d := json.NewDecoder(file)
		for i, w := range want {
			var got struct {
				sentReading
				Row *int `json:"_lineage_row"`
			}
			if err := d.Decode(&got); err != nil {
				t.Fatalf("%s, row %d of %d: %v", name, i, len(want), err)
			}
			if a, b := shownReading(got.sentReading), shownReading(w); a != b {
				t.Fatalf("%s, row %d: %s, want %s", name, i, a, b)
			}
			if name == "lineage" && (got.Row == nil || *got.Row != w.ID+1) {
				t.Fatalf("row %d of record %d is said to come of another", i, w.ID+1)
			}
		}
		if d.More() {
			t.Errorf("%s has more rows than %d", name, len(want))
		}
	}
}

func shownReading(r sentReading) string {
	text, _ := json.Marshal(r)
	return string(text)
}

// Accounts for programs tell the version of each object by its hash, the same whatever is made of it.
func TestHashesOfObjects(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	type account struct {
		Objects []struct{ Location, Hash string }
	}
	var convert, load, columns account
	decode(t, must(t, []string{"convert", "r.csv", "--to", "o.parquet", "-o", "json"}).out, &convert)
	decode(t, must(t, []string{"load", "r.csv", "--into", "ops.r", "-o", "json"}).out, &load)
	decode(t, must(t, []string{"convert", "o.parquet", "--to", "o.orc", "-o", "json"}).out, &columns)
	if len(convert.Objects) != 1 || len(convert.Objects[0].Hash) != 32 || load.Objects[0].Hash != convert.Objects[0].Hash ||
		len(columns.Objects[0].Hash) != 32 || columns.Objects[0].Hash == load.Objects[0].Hash {
		t.Errorf("%+v, %+v, %+v", convert, load, columns)
	}
}
