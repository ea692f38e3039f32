package write

import (
	"trevak/internal/columnar"
	"trevak/internal/infer"
	"trevak/internal/parse/geojson"
	"trevak/internal/schema"
)

// describeGeometry has files tell what they hold of geometries.
func describeGeometry(d *infer.Data, o *columnar.Options, of schema.Schema) {
	if !d.Inputs[0].WKB {
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
