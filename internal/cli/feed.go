package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/fault"
	"trevak/internal/feed"
	"trevak/internal/infer"
	"trevak/internal/load"
	"trevak/internal/parse/json"
	"trevak/internal/render"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// feedFlag is the flag that takes settings from a feed file.
type feedFlag struct {
	path string
	feed *feed.Feed
	used []setting // those that no flag overrides
}

func (f *feedFlag) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.path, "feed", "", "take everything that no flag says from a feed `file`")
}

// apply sets the flags of a command that were not stated to what the feed file says, and returns the sources to read.
func (f *feedFlag) apply(cmd *cobra.Command, args []string, c *correctionFlags) ([]string, error) {
	if f.path == "" {
		return args, nil
	}
	var err error
	if f.feed, err = feed.Read(cmd.Context(), stores, f.path); err != nil {
		return nil, err
	}
	for _, s := range feedSettings(f.feed) {
		flag := cmd.Flags().Lookup(s.flag)
		if flag == nil || flag.Changed || len(s.values) == 0 || overridden(cmd.Flags(), s.flag) {
			continue
		}
		if err := set(flag, s.values); err != nil {
			return nil, fault.New(fault.Usage, "the key %s: %s", s.key, err).In(f.path)
		}
		f.used = append(f.used, s)
	}
	if c.declared, err = f.feed.Fields(); err != nil {
		return nil, err
	}
	if len(args) == 0 {
		args = f.feed.Source.Files
	}
	return args, nil
}

// blame names the key of the feed file in an error about a flag that nobody stated.
func (f *feedFlag) blame(err error) error {
	e, ok := err.(*fault.Error)
	if !ok || f.feed == nil || e.Kind != fault.Usage {
		return err
	}
	for _, s := range f.used {
		flag := "--" + s.flag
		before, after, found := strings.Cut(e.Reason+" ", flag)
		if found && after != "" && strings.ContainsAny(after[:1], " :=,") {
			e.Reason = strings.TrimSpace(before + "the key " + s.key + after)
			e.Line = f.feed.Line(s.key)
			return e.In(f.path)
		}
	}
	return e
}

// set gives a flag its values, which for lists replace what is there.
func set(flag *pflag.Flag, values []string) error {
	if list, ok := flag.Value.(pflag.SliceValue); ok {
		return list.Replace(values)
	}
	return flag.Value.Set(values[0])
}

// overridden reports whether another flag says the contrary of one that a feed file has.
func overridden(flags *pflag.FlagSet, name string) bool {
	switch name {
	case "format":
		// It is that of tables; a convert writes as its destination says.
		return flags.Lookup("to") != nil
	case "header-rows", "no-header":
		return flags.Changed("header") || flags.Changed("no-header") || flags.Changed("header-rows")
	}
	return false
}

// setting is a key of a feed file and the flag that says the same.
type setting struct {
	flag, key string
	values    []string
}

// feedSettings lists what a feed file says, by flag.
func feedSettings(f *feed.Feed) []setting {
	var out []setting
	text := func(flag, key, value string) {
		if value != "" {
			out = append(out, setting{flag, key, []string{value}})
		}
	}
	number := func(flag, key string, value *int) {
		if value != nil {
			text(flag, key, strconv.Itoa(*value))
		}
	}
	yes := func(flag, key string, value *bool) {
		if value != nil {
			text(flag, key, strconv.FormatBool(*value))
		}
	}
	list := func(flag, key string, values []string) { out = append(out, setting{flag, key, values}) }
	text("path-columns", "source.path_columns", f.Source.PathColumns)
	yes("lineage", "source.lineage", f.Source.Lineage)
	yes("keep-raw", "source.keep_raw", f.Source.KeepRaw)
	yes("allow-expansion", "source.allow_expansion", f.Source.AllowExpansion)
	yes("mixed-files", "source.mixed_files", f.Source.MixedFiles)
	text("timeout", "source.timeout", f.Source.Timeout)
	r := f.Reading
	text("encoding", "reading.encoding", r.Encoding)
	text("records", "reading.records", r.Records)
	yes("xml-prefixes", "reading.xml_prefixes", r.XMLPrefixes)
	text("mixed-content", "reading.mixed_content", r.MixedContent)
	text("json-numbers", "reading.json_numbers", r.JSONNumbers)
	text("geometry", "reading.geometry", r.Geometry)
	text("unsure", "reading.unsure", r.Unsure)
	if len(r.Widths) > 0 {
		text("widths", "reading.widths", widthsText(r.Widths))
	}
	text("delimiter", "reading.delimiter", r.Delimiter)
	text("quote", "reading.quote", r.Quote)
	text("escape", "reading.escape", r.Escape)
	text("comment", "reading.comment", r.Comment)
	if r.HeaderRows != nil && *r.HeaderRows == 0 {
		text("no-header", "reading.header_rows", "true")
	} else {
		number("header-rows", "reading.header_rows", r.HeaderRows)
	}
	list("columns", "reading.columns", r.Columns)
	number("skip-rows", "reading.skip_rows", r.SkipRows)
	yes("skip-blank-rows", "reading.skip_blank_rows", r.SkipBlankRows)
	yes("trim", "reading.trim", r.Trim)
	text("ragged", "reading.ragged", r.Ragged)
	text("decimal-mark", "reading.decimal_mark", r.DecimalMark)
	text("mixed", "reading.mixed", r.Mixed)
	list("nulls", "reading.nulls", r.Nulls)
	text("scan", "reading.scan", r.Scan)
	list("drop", "drop", f.Drop)
	list("only", "only", f.Only)
	list("key", "key", f.Key)
	text("names", "names", f.Names)
	form := f.Shape
	text("where", "shape.where", form.Where)
	list("unnest", "shape.unnest", form.Unnest)
	yes("unnest-index", "shape.unnest_index", form.UnnestIndex)
	yes("unnest-count", "shape.unnest_count", form.UnnestCount)
	text("unnest-empty", "shape.unnest_empty", form.UnnestEmpty)
	yes("confirm-multiply", "shape.confirm_multiply", form.ConfirmMultiply)
	text("nested", "shape.nested", form.Nested)
	text("path-separator", "shape.path_separator", form.PathSeparator)
	number("flatten-depth", "shape.flatten_depth", form.FlattenDepth)
	text("lists", "shape.lists", form.Lists)
	list("derive", "shape.derive", form.Derive)
	list("nest", "shape.nest", form.Nest)
	list("split", "shape.split", form.Split)
	text("nest-rows", "shape.nest_rows", form.NestRows)
	text("nest-key", "shape.nest_key", form.NestKey)
	list("rename", "shape.rename", form.Rename)
	text("into", "table.into", f.Table.Into)
	text("partition", "table.partition", f.Table.Partition)
	text("sort", "table.sort", f.Table.Sort)
	text("file-size", "table.file_size", f.Table.FileSize)
	text("row-group", "table.row_group", f.Table.RowGroup)
	list("partition-value", "source.partition_values", f.Source.PartitionValues)
	text("format", "table.format", f.Table.Format)
	text("codec", "table.codec", f.Table.Codec)
	number("page-version", "table.page_version", f.Table.PageVersion)
	text("favor", "table.favor", f.Table.Favor)
	list("bloom", "table.bloom", f.Table.Bloom)
	text("drift", "table.drift", f.Table.Drift)
	text("tolerate", "limits.tolerate", f.Limits.Tolerate)
	text("tolerate-misfits", "limits.tolerate_misfits", f.Limits.TolerateMisfits)
	number("max-record", "limits.max_record", f.Limits.MaxRecord)
	number("max-columns", "limits.max_columns", f.Limits.MaxColumns)
	number("max-depth", "limits.max_depth", f.Limits.MaxDepth)
	return out
}

// emitFeed writes a feed file of an inference and of the flags that were stated.
func emitFeed(cmd *cobra.Command, args []string, i *infer.Inference) ([]byte, error) {
	flags := cmd.Flags()
	stated := func(name string) string {
		if f := flags.Lookup(name); f != nil && f.Changed {
			return f.Value.String()
		}
		return ""
	}
	number := func(name string) *int {
		if n, err := flags.GetInt(name); err == nil && flags.Changed(name) {
			return &n
		}
		return nil
	}
	yes := func(name string) *bool {
		if b, err := flags.GetBool(name); err == nil && flags.Changed(name) {
			return &b
		}
		return nil
	}
	list := func(name string) []string {
		values, err := flags.GetStringSlice(name)
		if err != nil {
			return nil
		}
		return values
	}
	array := func(name string) []string {
		values, err := flags.GetStringArray(name)
		if err != nil {
			return nil
		}
		return values
	}
	f := &feed.Feed{Version: feed.Version, Names: flags.Lookup("names").Value.String(), Key: i.Schema.Key, Drop: list("drop"), Only: list("only"),
		Source: feed.Source{Files: args, PathColumns: stated("path-columns"), PartitionValues: array("partition-value"), Lineage: yes("lineage"), KeepRaw: yes("keep-raw"), AllowExpansion: yes("allow-expansion"), MixedFiles: yes("mixed-files"), Timeout: stated("timeout")},
		Reading: feed.Reading{Records: stated("records"), XMLPrefixes: yes("xml-prefixes"), MixedContent: stated("mixed-content"), JSONNumbers: stated("json-numbers"), Geometry: stated("geometry"), Unsure: stated("unsure"), Ragged: stated("ragged"), DecimalMark: stated("decimal-mark"), Mixed: stated("mixed"), Nulls: list("nulls"), Scan: stated("scan"),
			SkipRows: number("skip-rows"), SkipBlankRows: yes("skip-blank-rows"), Trim: yes("trim"), Columns: list("columns"), Escape: stated("escape")},
		Table:  feed.Table{Into: stated("into"), Partition: stated("partition"), Sort: stated("sort"), FileSize: stated("file-size"), RowGroup: stated("row-group"), Format: stated("format"), Codec: flags.Lookup("codec").Value.String(), Favor: stated("favor"), PageVersion: number("page-version"), Bloom: list("bloom"), Drift: flags.Lookup("drift").Value.String()},
		Limits: feed.Limits{Tolerate: flags.Lookup("tolerate").Value.String(), TolerateMisfits: stated("tolerate-misfits"), MaxRecord: number("max-record"), MaxColumns: number("max-columns"), MaxDepth: number("max-depth")}}
	if records := i.OfRecords(); records != i {
		// Names that columns get when they have another form are not theirs in the records.
		f.Shape = feed.Shape{Where: stated("where"), Unnest: array("unnest"), UnnestIndex: yes("unnest-index"), UnnestCount: yes("unnest-count"), UnnestEmpty: stated("unnest-empty"), ConfirmMultiply: yes("confirm-multiply"),
			Nested: stated("nested"), PathSeparator: stated("path-separator"), FlattenDepth: number("flatten-depth"), Lists: stated("lists"), Derive: array("derive"), Nest: array("nest"), NestRows: stated("nest-rows"), NestKey: stated("nest-key"),
			Rename: array("rename")}
		i = records
	} else {
		f.Shape.Nested = "keep"
	}
	settleReading(&f.Reading, i.Source.Source)
	for _, field := range i.Schema.Fields {
		f.Columns = append(f.Columns, feed.ColumnOf(field))
	}
	return f.Write(feedComments(f, i))
}

// settleReading puts the reading rules that all objects share into a feed.
func settleReading(r *feed.Reading, s *source.Source) {
	first := s.Inputs[0].Rules
	same := func(of func(sniff.Rules) string) bool {
		return !slices.ContainsFunc(s.Inputs, func(in source.Input) bool { return of(in.Rules) != of(first) })
	}
	if same(func(r sniff.Rules) string { return r.Encoding }) {
		r.Encoding = first.Encoding
	}
	place := func(in source.Input) string {
		if in.Rules.Format == sniff.XML {
			return "/" + strings.Join(in.Shape.Records, ",/")
		}
		if in.Rules.Format == sniff.JSON && in.Rules.Records != nil && in.Rules.Records.String() != json.Elements.String() {
			return in.Rules.Records.String()
		}
		return ""
	}
	if records := place(s.Inputs[0]); r.Records == "" && !slices.ContainsFunc(s.Inputs, func(in source.Input) bool { return place(in) != records }) {
		r.Records = records
	}
	if first.Format != sniff.Delimited {
		return
	}
	d := first.Dialect
	if same(func(r sniff.Rules) string { return r.Dialect.DelimiterText() }) {
		if r.Widths = d.Widths; len(d.Widths) == 0 {
			r.Delimiter = d.DelimiterText()
		}
	}
	if d.Trim && r.Trim == nil && same(func(r sniff.Rules) string { return strconv.FormatBool(r.Dialect.Trim) }) {
		r.Trim = &d.Trim
	}
	if first.Skip > 0 && r.SkipRows == nil && same(func(r sniff.Rules) string { return strconv.Itoa(r.Skip) }) {
		r.SkipRows = &first.Skip
	}
	if len(d.Widths) > 0 {
		return
	}
	if same(func(r sniff.Rules) string { return string(rune(r.Dialect.Quote)) }) {
		r.Quote = character(d.Quote)
	}
	if same(func(r sniff.Rules) string { return string(rune(r.Dialect.Comment)) }) {
		r.Comment = character(d.Comment)
	}
	if same(func(r sniff.Rules) string { return strconv.Itoa(r.HeaderRows) + " " + strconv.Itoa(r.Skip) }) {
		r.HeaderRows = &first.HeaderRows
	}
}

func character(c byte) string {
	if c == 0 {
		return "none"
	}
	return string(rune(c))
}

// feedComments says in a feed file what may be changed.
func feedComments(f *feed.Feed, i *infer.Inference) map[string][]string {
	out := map[string][]string{
		"$.feed":    {"A feed file: use it with --feed on preview, infer, convert and load. Flags override what it says.", "What is left out is decided from the data, or is the usual."},
		"$.columns": {"The columns in the order of the table. name may be changed; from is the name in the source.", "A type that is stated here never widens: a value that is none goes to the column _misfit.", "Types are those of --type, like decimal(9,2) or timestamp(%d.%m.%Y %H:%M)."},
		"$.names":   {"How names of columns that are not listed are made: safe, keep or snake."},
		"$.shape":   {"What form rows get: docs/nesting.md tells of where, unnest, nested, derive and the rest."},
		"$.table":   {"Where load puts the rows. drift is grow, hold or stop."},
		"$.limits":  {"How many records may fail to become rows: a number, or a share like 0.5%."},
	}
	if f.Source.Files != nil {
		out["$.source"] = []string{"What is read, from the working folder on."}
	}
	if f.Reading.Encoding != "" {
		out["$.reading"] = []string{"How it is read."}
	}
	i.Walk(func(path string, field *schema.Field, n *schema.Node, depth int) {
		if depth > 0 {
			return
		}
		distinct, _ := n.DistinctValues(field.Notation.Nulls)
		values := n.Present(field.Notation.Nulls)
		line := render.Count(int(values), "value", "values")
		if !field.Type.Nested() {
			line += fmt.Sprintf(", %s different, %s null, at most %s long", render.Number(distinct), render.Number(i.Records-values),
				render.Count(n.LongestValue(field.Notation.Nulls), "character", "characters"))
		}
		at := slices.IndexFunc(f.Columns, func(c feed.Column) bool { return c.Name == field.Name })
		out[fmt.Sprintf("$.columns[%d].name", at)] = []string{line}
	})
	return out
}

func (a *app) feedCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "feed",
		Short: "Check feed files, and describe them to editors",
		Long: `A feed file holds everything that was settled about one flow: source, reading rules, columns, table and limits. infer --emit feed
writes one, and --feed uses it.`,
		Example: `  trevak infer trevak-demo/tides/tides.tsv --into orrin.tides --emit feed > trevak-demo/tides.feed.yaml
  trevak feed check trevak-demo/tides.feed.yaml`,
	}
	check := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a feed file",
		Long: `Check makes the checks that a load by the feed file would make before it writes: what the keys say, whether its sources are there, how they would be
read, whether its columns are in them, and whether the table would take them. It looks at a sample of the records.`,
		Example: `  trevak infer trevak-demo/stations/stations.csv --into orrin.stations --emit feed > trevak-demo/stations.feed.yaml
  trevak feed check trevak-demo/stations.feed.yaml
  trevak feed check trevak-demo/stations.feed.yaml -o json`,
		Args: usageArgs(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error { return a.checkFeed(cmd.Context(), args[0]) },
	}
	a.addWarehouse(check)
	describe := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of feed files, for editors",
		Example: `  trevak feed schema
  trevak feed schema > feed.schema.json`,
		Args: usageArgs(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			_, err := a.out.Write(feed.JSONSchema)
			return err
		},
	}
	cmd.AddCommand(check, describe)
	return cmd
}

// checkFeed makes the checks of a load by a feed file.
func (a *app) checkFeed(ctx context.Context, path string) error {
	var flags loadFlags
	cmd := &cobra.Command{}
	cmd.SetContext(ctx)
	flags.add(cmd)
	if err := cmd.ParseFlags([]string{"--feed", path}); err != nil {
		return usageError{err}
	}
	l, err := flags.loading(a, cmd, nil)
	f := flags.reading.feed.feed
	if f != nil && f.Table.Into == "" && flags.into == "" && err != nil && strings.Contains(err.Error(), "--into is missing") {
		// A feed of a convert or an infer names no table.
		flags.into = feedWithoutTable
		l, err = flags.loading(a, cmd, nil)
	}
	if err != nil {
		return err
	}
	budget, done := a.budget()
	err = load.Check(ctx, l, budget)
	done()
	if err != nil {
		return flags.reading.feed.blame(err)
	}
	return a.feedChecked(path, f)
}

// feedWithoutTable is the table that a feed file without one is checked for; there is none of that name.
const feedWithoutTable = "feed-check.no-table"

func (a *app) feedChecked(path string, f *feed.Feed) error {
	if a.json() {
		return a.writeJSON(struct {
			File    string   `json:"file"`
			Valid   bool     `json:"valid"`
			Sources []string `json:"sources"`
			Columns int      `json:"columns"`
			Table   string   `json:"table,omitempty"`
		}{path, true, f.Source.Files, len(f.Columns), f.Table.Into})
	}
	into := f.Table.Into
	if into == "" {
		into = "no table"
	}
	a.screen().Printf("%s is a feed file: %s, %d columns, %s\n", path, strings.Join(f.Source.Files, ", "), len(f.Columns), into)
	return nil
}

// widthsText writes widths as --widths takes them.
func widthsText(widths []int) string {
	texts := make([]string, len(widths))
	for i, w := range widths {
		texts[i] = strconv.Itoa(w)
	}
	return strings.Join(texts, ",")
}
