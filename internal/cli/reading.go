package cli

import (
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/parse/delimited"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/weigh"
	"trevak/internal/write"
)

// readingFlags are the flags that say how a source is read.
type readingFlags struct {
	delimiter, quote, escape, comment string
	ragged                            string
	header, noHeader, trim, skipBlank bool
	headerRows, skipRows              int
	columns                           []string
	tolerate, misfits, quarantine     string
	filesFrom, encoding, records      string
	prefixes                          bool
	mixedContent, unsure, widths      string
	jsonNumbers, geometry             string
	lineage, keepRaw                  bool
	pathColumns                       string
	partitionValues                   []string
	limits                            source.Limits
	mayExpand, mixed                  bool
	patience                          time.Duration
	corrections                       correctionFlags
	feed                              feedFlag
	schemaComes                       bool
	shape                             *shapeFlags // nil where rows keep their form
	asWritten                         bool        // what is said of columns has rows shown as they would be written
}

// add registers the reading rules; types too where a schema comes of it.
func (f *readingFlags) add(cmd *cobra.Command, types bool) {
	section(cmd, sectionReading, func(flags *pflag.FlagSet) {
		flags.StringVar(&f.filesFrom, "files-from", "", "read more sources from a `file`, a line each; - is standard input")
		flags.BoolVar(&f.mixed, "mixed-files", false, "read files of a folder together though they share no column")
		flags.DurationVar(&f.patience, "timeout", storage.DefaultPatience, "how long a server may send next to nothing, a `duration` like 30s")
		flags.BoolVar(&f.mayExpand, "allow-expansion", false, "read packed files however much they unpack to")
		flags.StringVar(&f.encoding, "encoding", "", "text encoding, by its WHATWG `label` (default: decided from the data)")
		flags.Var((*paths)(&f.records), "records", "`path` of the records in a JSON or XML document, like '$.data.items[*]', '$.buoys.*' or /log/entry; several of XML make a column _kind (default: found where one place is likeliest)")
		flags.BoolVar(&f.prefixes, "xml-prefixes", false, "keep the prefixes of names in XML: media:title becomes media_title")
		flags.StringVar(&f.mixedContent, "mixed-content", "members", "`what` becomes of XML elements with text among elements: members, with the text as one of them, or text with its markup")
		flags.IntVar(&f.limits.RecordBytes, "max-record", 64<<20, "the most `bytes` that one record may have")
		flags.IntVar(&f.limits.Columns, "max-columns", 20_000, "the most `columns` and parts of columns that a source may have")
		flags.IntVar(&f.limits.Depth, "max-depth", 200, "how many `levels` deep objects and lists may lie within each other")
		flags.StringVar(&f.delimiter, "delimiter", "", "`text` between fields, one or more characters, or comma, semicolon, tab, pipe, blanks for any number of these, none for lines that are one field each, 0x01, 0x1F (default: decided from the data)")
		flags.StringVar(&f.quote, "quote", "", "`character` around fields that hold delimiters, or none (default \")")
		flags.StringVar(&f.escape, "escape", "double", "`way` in which a quote is written within quotes: double, or backslash")
		flags.StringVar(&f.comment, "comment", "", "`character` that begins lines to pass over, or none (default: decided from the data)")
		flags.BoolVar(&f.trim, "trim", false, "leave out white space around fields")
		flags.IntVar(&f.skipRows, "skip-rows", 0, "how many `lines` at the start of each file to pass over")
		flags.BoolVar(&f.skipBlank, "skip-blank-rows", false, "blank lines are no records even in files of one column")
		flags.StringVar(&f.jsonNumbers, "json-numbers", "strict", "`which` numbers JSON may have: strict, or lenient with NaN, Infinity and -Infinity, which are doubles")
		flags.StringVar(&f.geometry, "geometry", "keep", "`what` becomes of features of GeoJSON: keep them as they stand, or wkb for a column a property and geometries as WKB, with bounding boxes")
		flags.StringVar(&f.unsure, "unsure", "", "`what` becomes of a run where a reading rule could be another: go, or stop (default: go where one is likelier, stop where none is)")
		flags.StringVar(&f.widths, "widths", "", "`widths` of the fields in characters, like 5,12,8, where nothing stands between them")
		flags.BoolVar(&f.header, "header", false, "the first record holds the names")
		flags.BoolVar(&f.noHeader, "no-header", false, "the first record is data; columns are named c1, c2 and so on")
		flags.IntVar(&f.headerRows, "header-rows", 0, "how many `records` hold the names, whose parts are joined by a space")
		flags.StringSliceVar(&f.columns, "columns", nil, "`names` of the columns, in order, with commas between them")
		flags.StringVar(&f.ragged, "ragged", "stop", "`what` becomes of records with too few or too many fields: stop, or pad them with nulls and keep the surplus in a column _misfit")
	})
	f.feed.add(cmd)
	if f.schemaComes = types; types {
		f.corrections.add(cmd)
	}
}

// addShape registers what form rows get.
func (f *readingFlags) addShape(cmd *cobra.Command) {
	f.shape = &shapeFlags{}
	f.shape.add(cmd)
}

// addTolerance registers what becomes of records that cannot become rows.
func (f *readingFlags) addTolerance(cmd *cobra.Command) {
	section(cmd, sectionRecords, func(flags *pflag.FlagSet) {
		flags.BoolVar(&f.lineage, "lineage", false, "add the columns _lineage_file, _lineage_row and _loaded_at")
		flags.BoolVar(&f.keepRaw, "keep-raw", false, "add the column _raw with the record as it was read, as JSON")
		flags.StringArrayVar(&f.partitionValues, "partition-value", nil, "add a column with one value for the whole run, `COL=VALUE`, and partition by it; may be repeated")
		flags.StringVar(&f.pathColumns, "path-columns", "", "add columns from the files' paths, by a `template` like 'year={year}/area={area}/'")
		flags.StringVar(&f.tolerate, "tolerate", "0", "how many records may fail to become rows: a `number` or a share, like 100 or 0.5%")
		flags.StringVar(&f.misfits, "tolerate-misfits", "50%", "how many values of a column whose type is stated may be none of that type: a `number` or a share of its values")
		flags.StringVar(&f.quarantine, "quarantine", "", "`file` for the records that fail (default: one named after the target)")
	})
}

// reading turns the flags into what flow wants.
func (f *readingFlags) reading(cmd *cobra.Command, sources []string) (r write.Task, err error) {
	defer func() { err = f.feed.blame(err) }()
	if sources, err = f.feed.apply(cmd, sources, &f.corrections); err != nil {
		return r, err
	}
	if len(sources) == 0 && f.filesFrom == "" {
		return r, fault.New(fault.Usage, "no source is named, and the feed file has none").Try("name a file, a folder or a pattern")
	}
	if err := f.timely(cmd, sources); err != nil {
		return r, err
	}
	r.Reading.Reading = source.Reading{Sources: sources, Stdin: os.Stdin, Store: storage.Standard(storage.Web{Patience: f.patience}), MayExpand: f.mayExpand, Mixed: f.mixed,
		Particular: particular(cmd), Prefixes: f.prefixes, MixedText: f.mixedContent == "text"}
	if f.mixedContent != "members" && f.mixedContent != "text" {
		return r, fault.New(fault.Usage, "--mixed-content %s is not known", f.mixedContent).Try("use members or text")
	}
	if f.filesFrom != "" {
		if r.Sources, err = listed(sources, f.filesFrom); err != nil {
			return r, err
		}
	}
	if r.Unsure, err = source.ParseUnsure(f.unsure); err != nil {
		return r, err
	}
	if r.Stated, err = f.stated(cmd); err != nil {
		return r, err
	}
	if r.Limits = f.limits; r.Limits.RecordBytes < 1 || r.Limits.Columns < 1 || r.Limits.Depth < 1 {
		return r, fault.New(fault.Usage, "--max-record, --max-columns and --max-depth count from 1 on")
	}
	if r.Limits.Depth > deepest {
		return r, fault.New(fault.Usage, "--max-depth %d is more than %d, the most that columns can be made of", r.Limits.Depth, deepest).Try("state at most that; deeper values can be kept as text by another program")
	}
	for _, text := range f.partitionValues {
		column, value, ok := strings.Cut(text, "=")
		if !ok || column == "" || value == "" {
			return r, fault.New(fault.Usage, "--partition-value %q does not name a column and its value", text).Try("write it like --partition-value batch=2031-05")
		}
		r.PartitionValues = append(r.PartitionValues, write.PartitionValue{Column: column, Value: value})
	}
	r.Quarantine, r.Lineage, r.KeepRaw, r.PathColumns = f.quarantine, f.lineage, f.keepRaw, f.pathColumns
	if f.tolerate != "" {
		if r.Tolerate, err = write.ParseTolerance("--tolerate", f.tolerate); err != nil {
			return r, err
		}
	}
	if f.misfits != "" {
		if r.Misfits, err = write.ParseTolerance("--tolerate-misfits", f.misfits); err != nil {
			return r, err
		}
	}
	if f.shape != nil {
		if r.Shape, err = f.shape.spec(); err != nil {
			return r, err
		}
		r.Confirmed = f.shape.confirmed
	}
	if f.asWritten {
		r.Formed = f.corrections.any(cmd)
	}
	if f.geometry != "keep" && f.geometry != "wkb" {
		return r, fault.New(fault.Usage, "--geometry %s is not known", f.geometry).Try("use keep or wkb")
	}
	if f.schemaComes {
		if r.Scan, err = f.corrections.scanned(); err != nil {
			return r, err
		}
		if r.Corrections, err = f.corrections.corrections(); err != nil {
			return r, err
		}
	}
	if f.geometry == "wkb" {
		r.UseWKB()
	}
	return r, nil
}

// deepest is the most that --max-depth takes: each level is a column within others, with a path as long as it is deep.
const deepest = 500

// timely checks the time that servers are given, which is for sources that are fetched.
func (f *readingFlags) timely(cmd *cobra.Command, sources []string) error {
	switch {
	case f.patience <= 0:
		return fault.New(fault.Usage, "--timeout %s leaves a server no time", f.patience).Try("write a duration above 0, like 30s")
	case cmd.Flags().Changed("timeout") && f.filesFrom == "" && !slices.ContainsFunc(sources, storage.IsURL):
		return idle(cmd, "where no source is fetched", "timeout")
	}
	return nil
}

// listed adds the sources that a file lists; blank lines are passed over.
func listed(sources []string, from string) ([]string, error) {
	text, err := os.ReadFile(from)
	if from == "-" {
		text, err = io.ReadAll(os.Stdin)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the list of sources cannot be read")
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" {
			sources = append(sources, line)
		}
	}
	if len(sources) == 0 {
		return nil, fault.New(fault.Usage, "%s lists no source", from).Try("put a path, folder or pattern on each line")
	}
	return sources, nil
}

// stated turns the flags into the reading rules that are fixed.
func (f *readingFlags) stated(cmd *cobra.Command) (sniff.Stated, error) {
	s := sniff.Stated{Records: f.records, SkipRows: f.skipRows, Columns: f.columns, Trim: f.trim, SkipBlank: f.skipBlank}
	var err error
	if s.Lenient = f.jsonNumbers == "lenient"; !s.Lenient && f.jsonNumbers != "strict" {
		return s, fault.New(fault.Usage, "--json-numbers %s is not known", f.jsonNumbers).Try("use strict or lenient")
	}
	s.SkipStated = cmd.Flags().Changed("skip-rows")
	if s.Widths, err = parseWidths(f.widths); err != nil {
		return s, err
	}
	if len(s.Widths) > 0 && (f.delimiter != "" || f.quote != "" || f.escape != "double" || f.trim) {
		return s, fault.New(fault.Usage, "--widths leaves no room for --delimiter, --quote, --escape or --trim: nothing stands between fields, and blanks around them are left out").Try("leave these out")
	}
	if f.encoding != "" {
		if s.Encoding, err = sniff.ParseEncoding(f.encoding); err != nil {
			return s, err
		}
	}
	if s.Delimiter, err = parseDelimiter(f.delimiter); err != nil {
		return s, err
	}
	if s.Quote, err = parseCharacter("--quote", f.quote); err != nil {
		return s, err
	}
	if s.Comment, err = parseCharacter("--comment", f.comment); err != nil {
		return s, err
	}
	if s.Quote != nil && *s.Quote != 0 && strings.ContainsRune(s.Delimiter, rune(*s.Quote)) {
		return s, fault.New(fault.Usage, "--delimiter %q holds the quote", f.delimiter).Try("state another --quote, or --quote none")
	}
	if f.skipRows < 0 || f.headerRows < 0 {
		return s, fault.New(fault.Usage, "--skip-rows and --header-rows count from 0 on")
	}
	one, none := 1, 0
	switch {
	case cmd.Flags().Changed("header") && !f.header:
		return s, fault.New(fault.Usage, "--header=false has no effect").Try("write --no-header where the first record is data, or leave it out to have that decided")
	case cmd.Flags().Changed("no-header") && !f.noHeader:
		return s, fault.New(fault.Usage, "--no-header=false has no effect").Try("write --header where the first record holds the names, or leave it out to have that decided")
	case f.header && f.noHeader, f.noHeader && f.headerRows > 0:
		return s, fault.New(fault.Usage, "--header and --no-header contradict each other").Try("keep one of them")
	case f.headerRows > 0:
		s.HeaderRows = &f.headerRows
	case f.header:
		s.HeaderRows = &one
	case f.noHeader:
		s.HeaderRows = &none
	}
	switch f.escape {
	case "double":
	case "backslash":
		s.Escape = '\\'
	default:
		return s, fault.New(fault.Usage, "--escape %s is not known", f.escape).Try("use double or backslash")
	}
	switch f.ragged {
	case "stop":
	case "pad":
		s.Pad = true
	default:
		return s, fault.New(fault.Usage, "--ragged %s is not known", f.ragged).Try("use stop or pad")
	}
	return s, nil
}

// paths is a flag that can be given several times; its values are joined by commas.
type paths string

func (p *paths) String() string { return string(*p) }
func (p *paths) Type() string   { return "string" }

func (p *paths) Set(text string) error {
	if *p != "" {
		text = string(*p) + "," + text
	}
	*p = paths(text)
	return nil
}

// parseWidths reads widths like 5,12,8.
func parseWidths(text string) (widths []int, err error) {
	if text == "" {
		return nil, nil
	}
	for _, part := range strings.Split(text, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(part))
		if err != nil || n < 1 {
			return nil, fault.New(fault.Usage, "--widths %s has %q, which is no width", text, part).Try("write how many characters each field has, like --widths 5,12,8")
		}
		widths = append(widths, n)
	}
	return widths, nil
}

// delimiterWords are names and spellings of delimiters that are awkward to type.
var delimiterWords = map[string]string{"comma": ",", "semicolon": ";", "tab": "\t", `\t`: "\t", "pipe": "|", "space": " ", "blanks": delimited.BlanksText,
	"none": delimited.NoneText, "tilde": "~", "caret": "^", `\x01`: "\x01", `\x1f`: "\x1f", `\x1F`: "\x1f", "0x01": "\x01", "0x1F": "\x1f"}

func parseDelimiter(text string) (string, error) {
	if d, ok := delimiterWords[text]; ok {
		return d, nil
	}
	if strings.ContainsAny(text, "\"\r\n\x00") {
		return "", fault.New(fault.Usage, "--delimiter %q holds a quote, a line end or a NUL", text).
			Try("use other characters, or comma, semicolon, tab, pipe, space")
	}
	return text, nil
}

// parseCharacter reads a flag that is one ASCII character or the word none; nil is a flag that is not stated.
func parseCharacter(flag, text string) (*byte, error) {
	var c byte
	switch {
	case text == "":
		return nil, nil
	case text == "none":
		return &c, nil
	case len(text) == 1 && text[0] < 0x80 && !strings.ContainsAny(text, "\r\n\x00"):
		c = text[0]
		return &c, nil
	}
	return nil, fault.New(fault.Usage, "%s %q is not one ASCII character", flag, text).Try("use a single character, or none")
}

// layoutFlags are the flags that say how rows are laid out.
type layoutFlags struct {
	partition, codec         string
	sort, fileSize, rowGroup string
	bloom                    []string
	favor                    string
	pages                    int
}

func (f *layoutFlags) add(cmd *cobra.Command) {
	section(cmd, sectionLayout, func(flags *pflag.FlagSet) {
		flags.StringVar(&f.partition, "partition", "", "partition `fields`, like 'day(observed_at),sea_area'; also year, month, hour, bucket(n,col), truncate(w,col)")
		flags.StringVar(&f.sort, "sort", "", "`order` of the rows within files, like 'sea_area, observed_at desc nulls last'")
		flags.StringVar(&f.fileSize, "file-size", "256MiB", "`size` at which a data file is ended and another begun")
		flags.StringVar(&f.rowGroup, "row-group", "64MiB", "`size`, or number of rows, at which a row group ends")
		flags.StringVar(&f.codec, "codec", string(columnar.DefaultCodec), "`codecs`, like zstd:9, and of single columns, like 'zstd,note=zstd:9,flag=none'; auto tries them on a sample: "+strings.Join(columnar.CodecNames(), ", "))
		flags.IntVar(&f.pages, "page-version", 1, "`version` of Parquet's data pages, 1 or 2")
		flags.StringVar(&f.favor, "favor", "balance", "`aim` of --codec auto: size, speed, or balance")
		flags.StringSliceVar(&f.bloom, "bloom", nil, "`columns` that get Bloom filters, for finding single values")
	})
}

// favored returns what --codec auto favors. Stated without that it would have no effect, unless a feed file states the one or the other.
func (f *layoutFlags) favored(cmd *cobra.Command, from feedFlag) (weigh.Favor, error) {
	favor, err := weigh.ParseFavor(f.favor)
	if err == nil && cmd.Flags().Changed("favor") && f.codec != string(columnar.Auto) && from.path == "" {
		err = fault.New(fault.Usage, "--favor is for --codec auto, and --codec is %s", f.codec).Try("write --codec auto, or leave --favor out")
	}
	return favor, err
}

func (f *layoutFlags) options() (layout.Options, error) {
	o := layout.DefaultOptions
	var err error
	if o.FileBytes, err = layout.ParseSize("--file-size", f.fileSize); err != nil {
		return o, err
	}
	if err := o.ParseRowGroup(f.rowGroup); err != nil {
		return o, err
	}
	o.Columnar.Bloom, o.Columnar.SecondPages = f.bloom, f.pages == 2
	if f.pages != 1 && f.pages != 2 {
		return o, fault.New(fault.Usage, "--page-version %d is not known", f.pages).Try("use 1 or 2")
	}
	if f.codec == string(columnar.Auto) {
		o.Columnar.Codec = columnar.Auto
		return o, nil
	}
	codec, single, err := columnar.ParseCodecs(f.codec)
	if err != nil {
		return o, fault.New(fault.Usage, "--codec: %s", err)
	}
	o.Columnar.Codec, o.Columnar.Codecs = codec, single
	return o, nil
}
