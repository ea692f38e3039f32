package source

import (
	"trevak/internal/fault"
	"trevak/internal/sniff"
)

// asWKB has the objects read so; they must all be GeoJSON.
func (s *Source) asWKB() error {
	for i := range s.Inputs {
		in := &s.Inputs[i]
		if !in.Rules.GeoJSON {
			return fault.New(fault.Usage,
				"is no collection of features in GeoJSON, which --geometry wkb is for").In(in.Location).Try("leave --geometry out")
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
