package columnar

import (
	"encoding/binary"
	"encoding/json"
	"math"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
)

// geo collects what GeoParquet 1.1 says of a column of geometries in WKB: their types, and the box around all of them.
type geo struct {
	column, box string
	at          int
	types       map[string]bool
	low, high   [2]float64
	some        bool
}

// geometryNames are the types of geometries by their codes in WKB.
var geometryNames = []string{"", "Point", "LineString", "Polygon", "MultiPoint", "MultiLineString", "MultiPolygon", "GeometryCollection"}

// newGeo prepares for a column of a schema, nil where it is not there. box is the column of the geometries' boxes.
func newGeo(s *arrow.Schema, column, box string) *geo {
	at := s.FieldIndices(column)
	if len(at) != 1 || !arrow.IsBinaryLike(s.Field(at[0]).Type.ID()) {
		return nil
	}
	if len(s.FieldIndices(box)) == 0 {
		box = ""
	}
	return &geo{column: column, box: box, at: at[0], types: map[string]bool{}}
}

// add looks at the geometries of a batch.
func (g *geo) add(batch arrow.RecordBatch) {
	values, ok := batch.Column(g.at).(*array.Binary)
	if !ok {
		return
	}
	for i := range values.Len() {
		if values.IsValid(i) {
			g.geometry(values.Value(i), true)
		}
	}
}

// geometry walks over one geometry in little-endian WKB (ISO/IEC 13249-3), and returns what follows it; nil where it is none.
func (g *geo) geometry(b []byte, top bool) []byte {
	if len(b) < 5 || b[0] != 1 {
		return nil
	}
	code := binary.LittleEndian.Uint32(b[1:])
	kind, dimensions := code%1000, 2
	if code >= 1000 {
		dimensions = 3
	}
	if kind == 0 || int(kind) >= len(geometryNames) || code >= 2000 {
		return nil
	}
	if top {
		name := geometryNames[kind]
		if dimensions == 3 {
			name += " Z"
		}
		g.types[name] = true
	}
	b = b[5:]
	switch kind {
	case 1:
		return g.positions(b, 1, dimensions)
	case 2:
		return g.counted(b, func(b []byte, n int) []byte { return g.positions(b, n, dimensions) })
	case 3:
		return g.each(b, func(b []byte) []byte {
			return g.counted(b, func(b []byte, n int) []byte { return g.positions(b, n, dimensions) })
		})
	}
	return g.each(b, func(b []byte) []byte { return g.geometry(b, false) })
}

// counted reads how many there are and lets a function read these.
func (g *geo) counted(b []byte, read func(b []byte, n int) []byte) []byte {
	if len(b) < 4 {
		return nil
	}
	return read(b[4:], int(binary.LittleEndian.Uint32(b)))
}

// each reads how many parts there are, and each.
func (g *geo) each(b []byte, read func(b []byte) []byte) []byte {
	return g.counted(b, func(b []byte, n int) []byte {
		for range n {
			if b = read(b); b == nil {
				return nil
			}
		}
		return b
	})
}

func (g *geo) positions(b []byte, n, dimensions int) []byte {
	size := 8 * dimensions
	if n < 0 || n > len(b)/size {
		return nil
	}
	for range n {
		x, y := math.Float64frombits(binary.LittleEndian.Uint64(b)), math.Float64frombits(binary.LittleEndian.Uint64(b[8:]))
		if x == x && y == y {
			if !g.some {
				g.low, g.high, g.some = [2]float64{x, y}, [2]float64{x, y}, true
			}
			g.low[0], g.high[0] = min(g.low[0], x), max(g.high[0], x)
			g.low[1], g.high[1] = min(g.low[1], y), max(g.high[1], y)
		}
		b = b[size:]
	}
	return b
}

// metadata writes what the footer says under the key geo (GeoParquet 1.1, file metadata). The coordinates are those of RFC
// 7946: longitude and latitude on WGS 84, which is what a column without a reference system has.
func (g *geo) metadata() (string, error) {
	type box struct {
		XMin []string `json:"xmin"`
		YMin []string `json:"ymin"`
		XMax []string `json:"xmax"`
		YMax []string `json:"ymax"`
	}
	type column struct {
		Encoding string    `json:"encoding"`
		Types    []string  `json:"geometry_types"`
		Box      []float64 `json:"bbox,omitempty"`
		Covering any       `json:"covering,omitempty"`
	}
	c := column{Encoding: "WKB", Types: []string{}}
	for name := range g.types {
		c.Types = append(c.Types, name)
	}
	slices.Sort(c.Types)
	if g.some {
		c.Box = []float64{g.low[0], g.low[1], g.high[0], g.high[1]}
	}
	if g.box != "" {
		c.Covering = map[string]any{"bbox": box{[]string{g.box, "xmin"}, []string{g.box, "ymin"}, []string{g.box, "xmax"},
			[]string{g.box, "ymax"}}}
	}
	text, err := json.Marshal(map[string]any{"version": "1.1.0", "primary_column": g.column, "columns": map[string]any{g.column: c}})
	return string(text), err
}
