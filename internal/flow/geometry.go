package flow

import (
	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/parse/geojson"
	"trevak/internal/schema"
	"trevak/internal/sniff"
)

// UseWKB has features of GeoJSON read as rows of their properties, with their geometries as WKB.
func (r *Reading) UseWKB() {
	r.WKB = true
	types := map[string]schema.Stated{geojson.GeometryColumn: {Type: schema.Type{Kind: schema.Binary}, Notation: schema.Notation{Format: "base64"}}}
	for path, stated := range r.Corrections.Types {
		types[path] = stated
	}
	r.Corrections.Types = types
}

// asWKB has the objects read so; they must all be GeoJSON.
func (s *Source) asWKB() error {
	for i := range s.Inputs {
		in := &s.Inputs[i]
		if !in.Rules.GeoJSON {
			return fault.New(fault.Usage, "is no collection of features in GeoJSON, which --geometry wkb is for").In(in.Location).Try("leave --geometry out")
		}
		in.WKB = true
		in.Rules.Keys = nil
		in.Rules.Reasons = append(in.Rules.Reasons, sniff.Reason{Rule: "geometry", Value: "wkb", Why: "stated; properties are columns"})
	}
	return nil
}

// IsGeoJSON reports whether all objects are collections of features, which are read as they stand.
func (s *Source) IsGeoJSON() bool {
	for _, in := range s.Inputs {
		if !in.Rules.GeoJSON || in.WKB {
			return false
		}
	}
	return true
}

// describeGeometry has files tell what they hold of geometries.
func (s *Source) describeGeometry(o *columnar.Options, of schema.Schema) {
	if !s.Inputs[0].WKB {
		return
	}
	for _, f := range of.Fields {
		switch f.Source() {
		case geojson.GeometryColumn:
			o.Geometry = f.Name
		case geojson.BoxColumn:
			if f.Type.Kind == schema.Struct {
				o.GeometryBox = f.Name
			}
		}
	}
}
