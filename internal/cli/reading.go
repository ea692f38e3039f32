package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/flow"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// readingFlags are the flags that say how a source is read.
type readingFlags struct {
	delimiter, ragged string
	header, noHeader  bool
	types             []string
	maxBad            string
	quarantine        string
}

// add registers the reading rules; types too where a schema comes of it.
func (f *readingFlags) add(cmd *cobra.Command, types bool) {
	flags := cmd.Flags()
	flags.StringVar(&f.delimiter, "delimiter", "", "`character` between fields, or comma, semicolon, tab, pipe (default: decided from the data)")
	flags.BoolVar(&f.header, "header", false, "the first record holds the names")
	flags.BoolVar(&f.noHeader, "no-header", false, "the first record is data; columns are named c1, c2 and so on")
	flags.StringVar(&f.ragged, "ragged", "stop", "what becomes of records with too few fields: stop, or pad them with nulls")
	if types {
		flags.StringArrayVar(&f.types, "type", nil, "fix a column's type, as in depth=double; may be repeated (`COL=TYPE`)")
	}
}

// addTolerance registers what becomes of records that cannot become rows.
func (f *readingFlags) addTolerance(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.maxBad, "max-bad", "0", "how many records may fail to become rows: a `number` or a share, like 100 or 0.5%")
	flags.StringVar(&f.quarantine, "quarantine", "", "`file` for the records that fail (default: one named after the target)")
}

// reading turns the flags into what flow wants.
func (f *readingFlags) reading(sources []string) (flow.Reading, error) {
	r := flow.Reading{Sources: sources, Types: map[string]schema.Type{}}
	if f.delimiter != "" {
		c, err := parseDelimiter(f.delimiter)
		if err != nil {
			return r, err
		}
		r.Stated.Delimiter = &c
	}
	switch {
	case f.header && f.noHeader:
		return r, fault.New(fault.Usage, "--header and --no-header contradict each other").Try("keep one of them")
	case f.header || f.noHeader:
		r.Stated.Header = &f.header
	}
	switch f.ragged {
	case "stop":
	case "pad":
		r.Stated.Pad = true
	default:
		return r, fault.New(fault.Usage, "--ragged %s is not known", f.ragged).Try("use stop or pad")
	}
	r.Quarantine = f.quarantine
	if f.maxBad != "" {
		var err error
		if r.MaxBad, err = flow.ParseTolerance(f.maxBad); err != nil {
			return r, err
		}
	}
	for _, text := range f.types {
		at := strings.LastIndexByte(text, '=')
		if at < 1 {
			return r, fault.New(fault.Usage, "--type %q does not name a column and a type", text).Try("write it like --type depth=double")
		}
		t, err := schema.ParseType(text[at+1:])
		if err != nil {
			return r, fault.New(fault.Usage, "--type: %s", err)
		}
		r.Types[text[:at]] = t
	}
	return r, nil
}

// delimiterWords are names and spellings of delimiters that are awkward to type.
var delimiterWords = map[string]byte{"comma": ',', "semicolon": ';', "tab": '\t', `\t`: '\t', "pipe": '|', "space": ' '}

func parseDelimiter(text string) (byte, error) {
	if c, ok := delimiterWords[text]; ok {
		return c, nil
	}
	if len(text) == 1 && text[0] < 0x80 && !strings.ContainsAny(text, "\"\r\n\x00") {
		return text[0], nil
	}
	return 0, fault.New(fault.Usage, "--delimiter %q is not one ASCII character", text).
		Try("use a single character other than a quote or a line end, or comma, semicolon, tab, pipe, space")
}

// layoutFlags are the flags that say how rows are laid out.
type layoutFlags struct {
	partition, codec string
}

func (f *layoutFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.partition, "partition", "", "partition `fields`, like 'day(observed_at),sea_area'; also year, month, hour, bucket(n,col), truncate(w,col)")
	flags.StringVar(&f.codec, "codec", string(columnar.DefaultCodec), "compression of the data: "+strings.Join(columnar.CodecNames(), ", "))
}

func (f *layoutFlags) options() (layout.Options, error) {
	o := layout.DefaultOptions
	codec, err := columnar.ParseCodec(f.codec)
	if err != nil {
		return o, fault.New(fault.Usage, "--codec: %s", err)
	}
	o.Columnar.Codec = codec
	return o, nil
}
