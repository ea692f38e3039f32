package geojson

import (
	"encoding/hex"
	"encoding/json"
	"io"
	"strings"
	"testing"
)

func TestAppendWKB(t *testing.T) {
	tests := []struct{ text, want string }{
		{`{"type":"Point","coordinates":[1,2]}`, "0101000000000000000000f03f0000000000000040"},
		{`{"coordinates":[1,2,3],"type":"Point"}`, "01e9030000000000000000f03f00000000000000400000000000000840"},
		{`{"type":"LineString","coordinates":[[1,2],[2,1]]}`,
			"010200000002000000000000000000f03f00000000000000400000000000000040000000000000f03f"},
		{`{"type":"Polygon","coordinates":[]}`, "010300000000000000"},
		{`{"type":"MultiPoint","coordinates":[[1,2]]}`, "0104000000010000000101000000000000000000f03f0000000000000040"},
		{`{"type":"MultiLineString","coordinates":[[[1,2],[1,2]]]}`,
			"010500000001000000010200000002000000000000000000f03f0000000000000040000000000000f03f0000000000000040"},
		{`{"type":"MultiPolygon","coordinates":[[[[1,2]]]]}`,
			"01060000000100000001030000000100000001000000000000000000f03f0000000000000040"},
		{`{"type":"GeometryCollection","geometries":[{"type":"Point","coordinates":[1,2,3]}]}`,
			"01ef0300000100000001e9030000000000000000f03f00000000000000400000000000000840"},
		{`{"type":"Point","coordinates":[]}`, "0101000000000000000000f87f000000000000f87f"},
	}
	for _, test := range tests {
		wkb, box, err := AppendWKB(nil, []byte(test.text))
		// A NaN may have other bits.
		if got := strings.ReplaceAll(hex.EncodeToString(wkb), "010000000000f87f", "000000000000f87f"); err != nil || got != test.want {
			t.Errorf("%s: %s, %v, want %s", test.text, got, err, test.want)
		}
		if box.some && (box.low != [2]float64{1, min(2, box.low[1])} || box.high[1] != 2) {
			t.Errorf("%s lies in %+v", test.text, box)
		}
	}
	for _, text := range []string{`{}`, `{"type":"Circle","coordinates":[1,2]}`, `{"type":"Point","coordinates":[1]}`,
		`{"type":"Point","coordinates":[1,2,3,4]}`, `{"type":"Point","coordinates":["1",2]}`,
		`{"type":"LineString","coordinates":[[1,2],[1,2,3]]}`, `{"type":"Polygon","coordinates":[[1,2]]}`, `[]`,
		`{"type":"GeometryCollection"}`, `{"type":"Point","coordinates":[1,2`} {
		if wkb, _, err := AppendWKB(nil, []byte(text)); err == nil {
			t.Errorf("%s: %x", text, wkb)
		}
	}
}

func TestFeatures(t *testing.T) {
	text := `{"type":"Feature","id":7,"properties":{"id":"x","geometry":1,"area":"Cairn \"Bay\""},"geometry":{"type":"Point","coordinates":[1.5,2]},"seen":1},
{"type":"Feature",
 "properties":null,
 "geometry":null}
{"type":"Feature","properties":{},"geometry":{"type":"Circle"}} 5`
	all, err := io.ReadAll(NewReader(strings.NewReader(text)))
	want := `{"feature_id":7,"seen":1,"id":"x","properties_geometry":1,"area":"Cairn \"Bay\"","geometry":"AQEAAAAAAAAAAAD4PwAAAAAAAABA","geometry_bbox":{"xmin":1.5,"ymin":2,"xmax":1.5,"ymax":2}} ` +
		"\n" + `{"geometry":null} ` + "\n\n\n" + `{"geometry":{"type":"Circle"}} 5 `
	if err != nil || string(all) != want {
		t.Errorf("%v\n%s\nwant\n%s", err, all, want)
	}
}

// FuzzReader checks that whatever features are, what comes of those that are JSON is JSON.
func FuzzReader(f *testing.F) {
	for _, seed := range []string{`{"type":"Feature","properties":{"a":[1]},"geometry":{"type":"MultiPolygon","coordinates":[[[[1,2]]]]}}`, `{"properties":{`, `{"geometry":5}`, `{"type":"x","geometry":{"type":"GeometryCollection","geometries":[[]]}}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !json.Valid([]byte(text)) {
			text = strings.ToValidUTF8(text, "?")
			io.ReadAll(NewReader(strings.NewReader(text)))
			return
		}
		all, err := io.ReadAll(NewReader(strings.NewReader(text)))
		if err == nil && !json.Valid(all) {
			t.Fatalf("%s gives %s", text, all)
		}
	})
}
