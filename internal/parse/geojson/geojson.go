// Package geojson makes rows of the features of GeoJSON (RFC 7946): their properties become columns, their geometries
// well-known binary (WKB, ISO/IEC 13249-3), as GeoParquet has them.
//
// What comes in is a stream of features, as package json gives them; what goes out is a stream of flat JSON objects on the same
// lines. A geometry is written in base64, and its bounding box beside it. One that cannot be written as WKB stays as it stands,
// and so becomes a misfit of its column.
package geojson

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strconv"

	"trevak/internal/parse/json"
)

// GeometryColumn and BoxColumn are the columns of a geometry and of its bounding box, which has the members xmin, ymin, xmax and ymax.
const (
	GeometryColumn = "geometry"
	BoxColumn      = "geometry_bbox"
)

// Reader gives features as flat objects.
type Reader struct {
	values *json.ValueReader
	line   int64
	ready  bytes.Buffer
	box    bounds
	wkb    []byte
}

// NewReader prepares to read features that follow one another.
func NewReader(r io.Reader) *Reader {
	return &Reader{values: json.NewValueReader(r), line: 1}
}

func (r *Reader) Read(p []byte) (int, error) {
	for r.ready.Len() == 0 {
		feature, line, err := r.values.Next()
		if err != nil {
			return 0, err
		}
		for ; r.line < line; r.line++ {
			r.ready.WriteByte('\n')
		}
		r.feature(feature)
		// What lies on several lines is written on one, and those are made up for with the next.
		r.ready.WriteByte(' ')
	}
	return r.ready.Read(p)
}

// member is a member of a feature, as it stands.
type member struct {
	name  []byte // raw, without quotes
	value []byte
}

// feature makes one feature ready. What is none is given as it stands.
func (r *Reader) feature(text []byte) {
	members, ok := membersOf(text)
	if !ok {
		r.flat(text)
		return
	}
	var geometry []byte
	var properties, others []member
	for _, m := range members {
		switch string(m.name) {
		case "type":
			if string(m.value) != `"Feature"` {
				others = append(others, m)
			}
		case "geometry":
			geometry = m.value
		case "properties":
			if properties, ok = membersOf(m.value); !ok && string(m.value) != "null" {
				r.flat(text)
				return
			}
		default:
			others = append(others, m)
		}
	}
	taken := map[string]bool{}
	for _, m := range properties {
		taken[string(m.name)] = true
	}
	r.ready.WriteByte('{')
	for _, m := range others {
		name := string(m.name)
		if taken[name] || name == GeometryColumn || name == BoxColumn {
			name = "feature_" + name
		}
		r.member(name, m.value)
	}
	for _, m := range properties {
		name := string(m.name)
		if name == GeometryColumn || name == BoxColumn {
			name = "properties_" + name
		}
		r.member(name, m.value)
	}
	r.geometry(geometry)
	r.ready.WriteByte('}')
}

// flat writes a text without its line feeds, which stand only between the parts of JSON.
func (r *Reader) flat(text []byte) {
	for _, c := range text {
		if c != '\n' && c != '\r' {
			r.ready.WriteByte(c)
		}
	}
}

func (r *Reader) member(name string, value []byte) {
	if last := r.ready.Bytes(); last[len(last)-1] != '{' {
		r.ready.WriteByte(',')
	}
	r.ready.WriteString(`"` + name + `":`)
	r.flat(value)
}

// geometry writes a geometry and its box.
func (r *Reader) geometry(text []byte) {
	if len(text) == 0 || string(text) == "null" {
		r.member(GeometryColumn, []byte("null"))
		return
	}
	var err error
	if r.wkb, r.box, err = AppendWKB(r.wkb[:0], text); err != nil {
		r.member(GeometryColumn, text)
		return
	}
	r.member(GeometryColumn, strconv.AppendQuote(nil, base64.StdEncoding.EncodeToString(r.wkb)))
	if r.box.some {
		r.member(BoxColumn, fmt.Appendf(nil, `{"xmin":%s,"ymin":%s,"xmax":%s,"ymax":%s}`, number(r.box.low[0]), number(r.box.low[1]),
			number(r.box.high[0]), number(r.box.high[1])))
	}
}

func number(v float64) []byte { return strconv.AppendFloat(nil, v, 'g', -1, 64) }

// membersOf takes an object apart.
func membersOf(text []byte) (members []member, ok bool) {
	var s json.Scanner
	s.Reset(text)
	if s.Peek() != json.Object {
		return nil, false
	}
	s.Open()
	for n := 0; ; n++ {
		key, _, more := s.NextKey(n)
		if !more {
			break
		}
		s.Peek()
		members = append(members, member{key, s.Skip()})
	}
	s.End()
	return members, s.Err() == nil
}

// errShape says that a geometry is not as RFC 7946 has them.
var errShape = errors.New("is no geometry")
