package geojson

import (
	"encoding/binary"
	"math"
	"strconv"

	"trevak/internal/parse/json"
)

// kinds are the codes of geometries in WKB, and how deep their positions lie in lists.
var kinds = map[string]struct {
	code  uint32
	depth int
}{"Point": {1, 0}, "LineString": {2, 1}, "Polygon": {3, 2}, "MultiPoint": {4, 1}, "MultiLineString": {5, 2}, "MultiPolygon": {6, 3}}

const (
	collection = 7    // a geometry of geometries
	withHeight = 1000 // what codes of geometries with three coordinates are higher
	deepest    = 16   // collections within each other
)

// bounds are the smallest and largest coordinates.
type bounds struct {
	low, high [2]float64
	some      bool
}

func (b *bounds) add(position []float64) {
	for i := range b.low {
		if !b.some {
			b.low[i], b.high[i] = position[i], position[i]
		}
		b.low[i], b.high[i] = min(b.low[i], position[i]), max(b.high[i], position[i])
	}
	b.some = true
}

// AppendWKB appends a geometry in little-endian WKB, and returns where it lies. All positions must have two coordinates, or all three.
func AppendWKB(dst, text []byte) (wkb []byte, box bounds, err error) {
	e := encoder{dst: dst}
	err = e.geometry(text, 0)
	return e.dst, e.box, err
}

// encoder writes one geometry.
type encoder struct {
	dst        []byte
	box        bounds
	dimensions int   // of the positions, 0 until one is met
	codes      []int // where codes stand, which tell the dimensions
}

func (e *encoder) geometry(text []byte, depth int) error {
	members, ok := membersOf(text)
	if !ok || depth > deepest {
		return errShape
	}
	var name string
	var coordinates, geometries []byte
	for _, m := range members {
		switch string(m.name) {
		case "type":
			name, _ = strconv.Unquote(string(m.value))
		case "coordinates":
			coordinates = m.value
		case "geometries":
			geometries = m.value
		}
	}
	kind, known := kinds[name]
	switch {
	case name == "GeometryCollection" && geometries != nil:
		if err := e.collection(geometries, depth); err != nil {
			return err
		}
	case known && coordinates != nil:
		var s json.Scanner
		s.Reset(coordinates)
		if err := e.coordinates(&s, kind.code, kind.depth); err != nil {
			return err
		}
	default:
		return errShape
	}
	if depth == 0 && e.dimensions == 3 {
		for _, at := range e.codes {
			binary.LittleEndian.PutUint32(e.dst[at:], binary.LittleEndian.Uint32(e.dst[at:])+withHeight)
		}
	}
	return nil
}

// begin writes the byte order and the code.
func (e *encoder) begin(code uint32) {
	e.dst = append(e.dst, 1)
	e.codes = append(e.codes, len(e.dst))
	e.dst = binary.LittleEndian.AppendUint32(e.dst, code)
}

func (e *encoder) collection(text []byte, depth int) error {
	e.begin(collection)
	return e.counted(text, func(s *json.Scanner) error {
		return e.geometry(s.Skip(), depth+1)
	})
}

// counted writes how many elements an array has before what each of them is.
func (e *encoder) counted(text []byte, each func(s *json.Scanner) error) error {
	var s json.Scanner
	s.Reset(text)
	return e.elements(&s, each)
}

func (e *encoder) elements(s *json.Scanner, each func(s *json.Scanner) error) error {
	at := len(e.dst)
	e.dst = binary.LittleEndian.AppendUint32(e.dst, 0)
	if s.Peek() != json.Array {
		return errShape
	}
	s.Open()
	n := 0
	for ; s.NextElement(n); n++ {
		s.Peek()
		if err := each(s); err != nil {
			return err
		}
	}
	if s.Err() != nil {
		return errShape
	}
	binary.LittleEndian.PutUint32(e.dst[at:], uint32(n))
	return nil
}

// coordinates writes a geometry of positions that lie so deep in lists.
func (e *encoder) coordinates(s *json.Scanner, code uint32, depth int) error {
	e.begin(code)
	switch code {
	case 1:
		return e.position(s)
	case 4, 5, 6:
		return e.elements(s, func(s *json.Scanner) error { return e.coordinates(s, code-3, depth-1) })
	}
	return e.list(s, depth)
}

// list writes lists of positions.
func (e *encoder) list(s *json.Scanner, depth int) error {
	if depth == 0 {
		return e.position(s)
	}
	return e.elements(s, func(s *json.Scanner) error { return e.list(s, depth-1) })
}

// position writes the coordinates of one position.
func (e *encoder) position(s *json.Scanner) error {
	if s.Peek() != json.Array {
		return errShape
	}
	s.Open()
	var p [3]float64
	n := 0
	for ; s.NextElement(n); n++ {
		if s.Peek() != json.Number || n == len(p) {
			return errShape
		}
		v, err := strconv.ParseFloat(string(s.Number()), 64)
		if err != nil {
			return errShape
		}
		p[n] = v
	}
	if n == 0 && s.Err() == nil && e.dimensions != 3 {
		// A point without coordinates is one of NaN.
		p[0], p[1], n = math.NaN(), math.NaN(), 2
	} else if n >= 2 {
		e.box.add(p[:n])
	}
	if s.Err() != nil || n < 2 || e.dimensions != 0 && n != e.dimensions {
		return errShape
	}
	e.dimensions = n
	for _, v := range p[:n] {
		e.dst = binary.LittleEndian.AppendUint64(e.dst, math.Float64bits(v))
	}
	return nil
}
