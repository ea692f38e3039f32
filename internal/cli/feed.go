package cli

import (
	"context"
	"errors"
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
	"trevak/internal/runsheet"
	"trevak/internal/schema"
	"trevak/internal/setting"
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// feedFlag is the flag that takes settings from a feed file.
type feedFlag struct {
	path     string
	feed     *feed.Feed
	used     []setting.Setting // those that no flag overrides
	declared []schema.Field
}

func (f *feedFlag) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.path, "feed", "", "take everything that no flag says from a feed `file`")
}

// apply gives a flow what the feed file says and no flag of the command does, and returns the sources to read.
func (f *feedFlag) apply(cmd *cobra.Command, flow *setting.Flow, args []string) ([]string, error) {
	if f.path == "" {
		return args, nil
	}
	var err error
	if f.feed, err = feed.Read(cmd.Context(), stores, f.path); err != nil {
		return nil, err
	}
	f.used, err = f.feed.Fill(flow, func(s setting.Setting) bool {
		return cmd.Flags().Lookup(s.Flag) == nil || cmd.Flags().Changed(s.Flag) || overridden(cmd.Flags(), s.Flag)
	})
	var e *fault.Error
	if errors.As(err, &e) {
		return nil, e.In(f.path)
	}
	if f.declared, err = f.feed.Fields(); err != nil {
		return nil, err
	}
	if len(args) == 0 {
		args = f.feed.Values["source.files"]
	}
	return args, nil
}

// blame names the key of the feed file in an error about a flag that nobody stated.
func (f *feedFlag) blame(err error) error {
	if f.feed == nil {
		return err
	}
	return f.feed.Blame(err, f.used)
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

// always are the settings that an emitted feed file has, stated or not.
var always = []string{"names", "table.codec", "table.drift", "limits.tolerate"}

// emitFeed writes a feed file of an inference and of the flags that were stated.
func emitFeed(flow *setting.Flow, args []string, i *infer.Inference) ([]byte, error) {
	f := &feed.Feed{Version: feed.Version, Values: map[string][]string{"source.files": args}}
	records := i.OfRecords()
	formed := records != i
	for _, s := range setting.Table {
		inForm := strings.HasPrefix(s.Key, "shape.")
		if s.Key == "" || s.Flag == "" || inForm && !formed || !flow.Stated(s.Flag) && !slices.Contains(always, s.Key) {
			continue
		}
		if values := s.Get(flow); len(values) > 0 {
			f.Values[s.Key] = values
		}
	}
	for _, rule := range settledRules {
		// What was settled is said below.
		delete(f.Values, rule)
	}
	if !formed {
		// Names that columns get when they have another form are not theirs in the records.
		f.Values["shape.nested"] = []string{"keep"}
	}
	if len(i.Schema.Key) > 0 {
		f.Values["key"] = i.Schema.Key
	} else {
		delete(f.Values, "key")
	}
	settleReading(f, flow, records.Source.Source)
	for _, field := range records.Schema.Fields {
		f.Columns = append(f.Columns, feed.ColumnOf(field))
	}
	return f.Write(feedComments(f, records))
}

// settledRules are the reading rules that an emitted feed file has as they were settled, whether or not they were stated.
var settledRules = []string{"reading.encoding", "reading.delimiter", "reading.quote", "reading.comment", "reading.header_rows",
	"reading.widths"}

// settleReading puts the reading rules that all objects share into a feed.
func settleReading(f *feed.Feed, flow *setting.Flow, s *source.Source) {
	first := s.Inputs[0].Rules
	same := func(of func(sniff.Rules) string) bool {
		return !slices.ContainsFunc(s.Inputs, func(in source.Input) bool { return of(in.Rules) != of(first) })
	}
	put := func(key, value string) { f.Values["reading."+key] = []string{value} }
	if same(func(r sniff.Rules) string { return r.Encoding }) {
		put("encoding", first.Encoding)
	}
	if records := recordsPlace(s.Inputs[0]); flow.Records == "" && records != "" &&
		!slices.ContainsFunc(s.Inputs, func(in source.Input) bool { return recordsPlace(in) != records }) {
		put("records", records)
	}
	if first.Format != sniff.Delimited {
		return
	}
	d := first.Dialect
	if same(func(r sniff.Rules) string { return r.Dialect.DelimiterText() }) {
		if len(d.Widths) > 0 {
			put("widths", widthsText(d.Widths))
		} else {
			put("delimiter", d.DelimiterText())
		}
	}
	if d.Trim && same(func(r sniff.Rules) string { return strconv.FormatBool(r.Dialect.Trim) }) {
		put("trim", "true")
	}
	if first.Skip > 0 && !flow.Stated("skip-rows") && same(func(r sniff.Rules) string { return strconv.Itoa(r.Skip) }) {
		put("skip_rows", strconv.Itoa(first.Skip))
	}
	if len(d.Widths) > 0 {
		return
	}
	if same(func(r sniff.Rules) string { return string(rune(r.Dialect.Quote)) }) {
		put("quote", character(d.Quote))
	}
	if same(func(r sniff.Rules) string { return string(rune(r.Dialect.Comment)) }) {
		put("comment", character(d.Comment))
	}
	if same(func(r sniff.Rules) string { return strconv.Itoa(r.HeaderRows) + " " + strconv.Itoa(r.Skip) }) {
		put("header_rows", strconv.Itoa(first.HeaderRows))
	}
}

// recordsPlace is where the records of a document are, empty where that goes without saying.
func recordsPlace(in source.Input) string {
	if in.Rules.Format == sniff.XML {
		return "/" + strings.Join(in.Shape.Records, ",/")
	}
	if in.Rules.Format == sniff.JSON && in.Rules.Records != nil && in.Rules.Records.String() != json.Elements.String() {
		return in.Rules.Records.String()
	}
	return ""
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
		"$.feed": {"A feed file: use it with --feed on preview, infer, convert and load. Flags override what it says.",
			"What is left out is decided from the data, or is the usual."},
		"$.columns": {"The columns in the order of the table. name may be changed; from is the name in the source.",
			"A type here is pinned: it never widens, and a value that is none is a misfit, kept in the column _misfit.",
			"Types are those of --type, like decimal(9,2) or timestamp(%d.%m.%Y %H:%M)."},
		"$.names":  {"How names of columns that are not listed are made: safe, keep or snake."},
		"$.shape":  {"What form rows get: docs/nesting.md tells of where, unnest, nested, derive and the rest."},
		"$.table":  {"Where load puts the rows. drift is grow, hold or stop."},
		"$.limits": {"How many records may fail to become rows: a number, or a share like 0.5%."},
	}
	if len(f.Values["source.files"]) > 0 {
		out["$.source"] = []string{"What is read, from the working folder on."}
	}
	if f.One("reading.encoding") != "" {
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
		Long: `Check makes the checks that a load by the feed file would make before it writes: what the keys say, whether its
sources are there, how they would be read, whether its columns are in them, and whether the table would take them. It
looks at a sample of the records.`,
		Example: `  trevak infer trevak-demo/stations/stations.csv --into orrin.stations --emit feed > trevak-demo/stations.feed.yaml
  trevak feed check trevak-demo/stations.feed.yaml
  trevak feed check trevak-demo/stations.feed.yaml -o json`,
		Args: few(1, 1, "a feed file"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.checkFeed(cmd.Context(), args[0]) },
	}
	a.addWarehouse(check)
	sheet := false
	describe := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of feed files, or of run sheets, for editors",
		Example: `  trevak feed schema > feed.schema.json
  trevak feed schema --sheet > sheet.schema.json`,
		Args: few(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			text, err := feed.JSONSchema()
			if sheet {
				text, err = runsheet.JSONSchema()
			}
			if err == nil {
				_, err = a.out.Write(text)
			}
			return err
		},
	}
	describe.Flags().BoolVar(&sheet, "sheet", false, "print the schema of run sheets")
	cmd.AddCommand(check, describe, a.settingsCommand())
	return group(cmd)
}

// checkFeed makes the checks of a load by a feed file.
func (a *app) checkFeed(ctx context.Context, path string) error {
	cmd := &cobra.Command{}
	cmd.SetContext(ctx)
	var flags loadFlags
	flags.add(cmd)
	if err := cmd.ParseFlags([]string{"--feed", path}); err != nil {
		return flagError(cmd, err)
	}
	// A feed of a convert or an infer names no table; there is none of that name.
	flags.flow.Into = "feed-check.no-table"
	l, err := flags.loading(a, cmd, nil)
	if err != nil {
		return err
	}
	budget, done := a.budget()
	err = load.Check(ctx, l, budget)
	done()
	if err != nil {
		return flags.feed.blame(err)
	}
	return a.feedChecked(path, flags.feed.feed)
}

func (a *app) feedChecked(path string, f *feed.Feed) error {
	if a.json() {
		return a.writeJSON(struct {
			Feed    string          `json:"feed"`
			Valid   bool            `json:"valid"`
			Sources []string        `json:"sources"`
			Columns []checkedColumn `json:"columns"`
			Table   *string         `json:"table"`
		}{path, true, slices.Concat([]string{}, f.Values["source.files"]), checkedColumns(f), into(f)})
	}
	text := "no table"
	if name := into(f); name != nil {
		text = *name
	}
	a.screen().Printf("%s is a feed file: %s, %d columns, %s\n", path, strings.Join(f.Values["source.files"], ", "), len(f.Columns), text)
	return nil
}

// into is the table that a feed file names, nil for none.
func into(f *feed.Feed) *string {
	if name := f.One("table.into"); name != "" {
		return &name
	}
	return nil
}

// checkedColumn is a column of a feed file for programs.
type checkedColumn struct {
	Path string `json:"path"`
	Type string `json:"type"`
}

func checkedColumns(f *feed.Feed) []checkedColumn {
	out := []checkedColumn{}
	for _, c := range f.Columns {
		out = append(out, checkedColumn{c.Name, c.Type})
	}
	return out
}

// widthsText writes widths as --widths takes them.
func widthsText(widths []int) string {
	texts := make([]string, len(widths))
	for i, w := range widths {
		texts[i] = strconv.Itoa(w)
	}
	return strings.Join(texts, ",")
}
