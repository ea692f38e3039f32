package columnar

import (
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// For checks the columns that options name against a schema, and names them by their legal paths.
func (o Options) For(s schema.Schema) (Options, error) {
	legal := map[string]string{}
	leaves := map[string]schema.Type{}
	var names []string
	s.Walk(func(path string, f *schema.Field) {
		names = append(names, path)
		legal[path] = path
		leaves[path] = f.Type
		for _, other := range []string{f.Origin, strings.ReplaceAll(path, "."+schema.ElementName, "")} {
			if _, taken := legal[other]; !taken && other != "" {
				legal[other] = path
			}
		}
	})
	find := func(flag, name string) (string, error) {
		if path, ok := legal[name]; ok {
			return path, nil
		}
		return "", fault.New(fault.Usage, "%s names a column %q that is not there", flag, name).Try("%s", schema.Choices(name, names))
	}
	codecs := map[string]Codec{}
	for name, codec := range o.Codecs {
		path, err := find("--codec", name)
		if err != nil {
			return o, err
		}
		codecs[path] = codec
	}
	bloom := slices.Clone(o.Bloom)
	for i, name := range bloom {
		path, err := find("--bloom", name)
		if err != nil {
			return o, err
		}
		if t := leaves[path]; t.Nested() || !bloomable(t.Arrow()) {
			return o, fault.New(fault.Usage, "--bloom: column %q is a %s, which has no filters", path,
				t).Try("name whole numbers, dates, times, texts or uuids")
		}
		bloom[i] = path
	}
	o.Codecs, o.Bloom = codecs, bloom
	return o, nil
}

// codecsOf are the codecs that formats other than Parquet have.
var codecsOf = map[Format][]string{ORC: {"zstd", "snappy", "gzip", "lz4", "none"}, Avro: {"zstd", "snappy", "gzip", "none"},
	Arrow: {"zstd", "lz4", "none"}}

// Has reports whether files of a format can be written with a codec, and its level.
func (f Format) Has(c Codec) bool { return Options{Codec: c}.Suits(f) == nil }

// Suits checks that a format has what the options ask for; it refuses what would have no effect.
func (o Options) Suits(f Format) error {
	if f == Parquet {
		return nil
	}
	name := strings.TrimPrefix(string(f), ".")
	codecs := codecsOf[f]
	if f == ArrowStream {
		f, name, codecs = Arrow, "arrow", codecsOf[Arrow]
	}
	switch {
	case len(o.Bloom) > 0 && f != ORC:
		return fault.New(fault.Usage, "--bloom is for Parquet and ORC; files of the format %s are written without Bloom filters",
			name).Try("leave it out")
	case o.SecondPages:
		return fault.New(fault.Usage, "--page-version is for Parquet, and has no meaning for %s", name).Try("leave it out")
	case len(o.Codecs) > 0:
		return fault.New(fault.Usage, "--codec %s: the columns of %s files share one codec", o.Compression(),
			name).Try("name one codec for all columns")
	case codecs == nil && o.Codec != DefaultCodec:
		return fault.New(fault.Usage, "--codec %s: files of the format %s are not compressed", o.Codec,
			name).Try("leave it out; text is packed where its ending says so, like %s%s", f.base(), Packings()[0])
	case o.Codec == Auto:
		return nil
	case f == Arrow && strings.Contains(string(o.Codec), ":"):
		return fault.New(fault.Usage, "--codec %s: files of the format %s are written without levels", o.Codec,
			name).Try("write --codec %s", o.Codec.name())
	case codecs != nil && !slices.Contains(codecs, o.Codec.name()):
		return fault.New(fault.Usage, "--codec %s: files of the format %s are not written with it", o.Codec, name).Try("use %s",
			strings.Join(codecs, ", "))
	}
	return nil
}
