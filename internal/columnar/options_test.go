package columnar

import (
	"strings"
	"testing"

	"trevak/internal/schema"
)

// named is a schema with columns whose names were changed, and with parts.
func named() schema.Schema {
	s := schema.Schema{Fields: []schema.Field{
		{Name: "wave_height_m_", Origin: "wave height (m)", Type: schema.Type{Kind: schema.Double}},
		{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "pos", Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{{Name: "lat", Type: schema.Type{Kind: schema.Double}},
			{Name: "code", Type: schema.Type{Kind: schema.String}}}}},
		{Name: "tags", Type: schema.Type{Kind: schema.List,
			Element: &schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.String}}}},
	}}
	s.AssignIDs()
	return s
}

// Options name columns as they stand in the source or in the table, and elements of lists with or without the word for them.
func TestOptionsFindColumns(t *testing.T) {
	o := Options{Codec: "zstd", Codecs: map[string]Codec{"wave height (m)": "none", "pos.code": "gzip", "tags": "lz4"},
		Bloom: []string{"id", "pos.code", "tags.element"}}
	got, err := o.For(named())
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]Codec{"wave_height_m_": "none", "pos.code": "gzip", "pos.lat": "zstd", "tags.element": "lz4",
		"id": "zstd"} {
		if codec := got.codecOf(path); codec != want {
			t.Errorf("%s is packed with %s, want %s", path, codec, want)
		}
	}
	if strings.Join(got.Bloom, " ") != "id pos.code tags.element" {
		t.Errorf("filters for %v", got.Bloom)
	}
	if o.Bloom[0] != "id" || o.Codecs["wave height (m)"] != "none" {
		t.Errorf("the options that were given have changed: %+v", o)
	}
}

func TestOptionsThatNameNothing(t *testing.T) {
	for _, tt := range []struct {
		o    Options
		want string
	}{
		{Options{Codecs: map[string]Codec{"idd": "none"}}, `--codec names a column "idd" that is not there; the nearest name is id`},
		{Options{Codecs: map[string]Codec{"velocity": "none"}}, "the columns are wave_height_m_, id, pos"},
		{Options{Bloom: []string{"wave height (m)"}},
			`column "wave_height_m_" is a double, which has no filters; name whole numbers, dates, times, texts or uuids`},
		{Options{Bloom: []string{"pos"}}, "which has no filters"},
		{Options{Bloom: []string{"pos.lon"}}, `--bloom names a column "pos.lon"`},
	} {
		if _, err := tt.o.For(named()); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %q", tt.o, err, tt.want)
		}
	}
}

// A format is refused what it has no use for, and takes what it has.
func TestOptionsSuitFormats(t *testing.T) {
	usual := Options{Codec: DefaultCodec}
	for _, f := range []Format{Parquet, ORC, Arrow, Avro, JSONLines, CSV, TSV} {
		if err := usual.Suits(f); err != nil {
			t.Errorf("%s: %v", f, err)
		}
	}
	for _, tt := range []struct {
		f    Format
		o    Options
		want string
	}{
		{ORC, Options{Codec: "brotli"}, "use zstd, snappy, gzip, lz4, none"},
		{Avro, Options{Codec: "lz4"}, "use zstd, snappy, gzip, none"},
		{Arrow, Options{Codec: "snappy"}, "use zstd, lz4, none"},
		{CSV, Options{Codec: "gzip"}, "are not compressed"},
		{JSONLines, Options{Codec: "none"}, "are not compressed"},
		{CSV, Options{Codec: Auto}, "are not compressed"},
		{Arrow, Options{Codec: "zstd:9"}, "without levels; write --codec zstd"},
		{Avro, Options{Codec: "zstd", Codecs: map[string]Codec{"id": "none"}}, "share one codec"},
		{Arrow, Options{Codec: "zstd", Bloom: []string{"id"}}, "--bloom is for Parquet and ORC"},
		{ORC, Options{Codec: "zstd", SecondPages: true}, "--page-version is for Parquet"},
	} {
		if err := tt.o.Suits(tt.f); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s, %+v: %v, want %q", tt.f, tt.o, err, tt.want)
		}
	}
	for f, codecs := range codecsOf {
		for _, codec := range codecs {
			if err := (Options{Codec: Codec(codec)}).Suits(f); err != nil {
				t.Errorf("%s with %s: %v", f, codec, err)
			}
		}
	}
}
