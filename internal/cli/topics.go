package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/fault"
	"trevak/internal/setting"
	"trevak/internal/wording"
)

// topic is something that help tells of beside the commands: a text, and the flags of some sections. The short help of commands
// with flags of the sections that it concerns names it.
type topic struct {
	name, short, text, example string
	sections, concerns         []setting.Section
}

// topics are what help tells of. The feed files are told of by the help of their command.
var topics = []topic{
	{name: "reading", short: "How sources are found and read",
		sections: []setting.Section{setting.Reading}, concerns: []setting.Section{setting.Reading},
		text: `A source is a file, a folder, a pattern, an address that begins with http:// or https://, or - for what is piped in. Each file of
it is an object. How an object is read is settled from its first bytes, by evidence, and preview shows each rule with its reason; a
rule that is stated by a flag is never overridden. Where another reading is nearly as likely, every report says so.`,
		example: `  trevak preview trevak-demo/stations/stations.csv
  trevak preview trevak-demo/service_log --no-header
  cat trevak-demo/tides/tides.tsv | trevak preview - -n 3`},
	{name: "types", short: "The types of columns, and how their values may be written",
		concerns: []setting.Section{setting.Columns},
		text: `A column gets the narrowest type that holds everything in it, and nothing that would lose something of its text. --type COL=TYPE
fixes another; a value that is none of a fixed type is a misfit, which is kept in the column _misfit.

  inferred     boolean  long  double  decimal(p,s)  date  time  timestamp  timestamptz  uuid  string  list  struct  map
  only stated  int  float  binary  timestamp_ns  timestamptz_ns  list<double>  map<string,long>  struct<lat: double, lon: double>
  written as   date(%d.%m.%Y)  timestamp(%d/%m/%Y %H:%M)  timestamptz(epoch_ms)  boolean(Y/N)  binary(base64)
               long(#,###)  double(#.###,#)  decimal(9,2,€ #)  long(# m)
  texts        json reads what is inside the texts of a column

The signs of dates are those of strftime; months have English names. Texts that stand for no value are named by --nulls.`,
		example: `  trevak infer trevak-demo/stations/stations.csv --type 'Water Depth (m)=decimal(6,1)'
  trevak infer trevak-demo/stations/stations.csv --column 'Station Code'`},
	{name: "columns", short: "Which columns there are, and what they are called",
		sections: []setting.Section{setting.Columns}, concerns: []setting.Section{setting.Columns},
		text: `Columns are named as in the source or by their legal names, parts of nested ones by their path, like buoy.position.lat. A name
that matches nothing is an error that tells the nearest ones.`,
		example: `  trevak infer trevak-demo/stations/stations.csv --names snake
  trevak infer trevak-demo/tides --only station,taken_at --key station,taken_at`},
	{name: "rows", short: "Which records become rows, and in which form",
		sections: []setting.Section{setting.Form, setting.Records}, concerns: []setting.Section{setting.Form, setting.Records},
		text: `A record of the source becomes a row, unless --where leaves it out or it is bad. Lists can be unnested, objects flattened, columns
derived; docs/nesting.md has the order in which this is done. Every report adds up:
records read are rows written, quarantined and skipped.`,
		example: `  trevak preview trevak-demo/observations --unnest readings --nested flatten
  trevak preview trevak-demo/observations --where 'buoy.position.lat > 58'`},
	{name: "layout", short: "How rows lie in files: partitions, order, sizes, codecs",
		sections: []setting.Section{setting.Layout}, concerns: []setting.Section{setting.Layout},
		text: `Rows are laid out for the queries to come: in a folder for each partition, sorted, in files and row groups of some size,
compressed column by column. weigh measures what pays on a sample of the data.`,
		example: `  trevak weigh trevak-demo/tides --try-sort station --try-partition 'day(taken_at)'
  trevak load trevak-demo/tides --into harbour.sorted --partition 'month(taken_at)' --sort station -w trevak-demo/warehouse`},
	{name: "words", short: "What the words of help, messages and reports mean",
		text: `One word is used for one thing, everywhere.

  source      what is named to be read: files, folders, patterns, addresses, standard input, a table
  object      one file of a source
  record      what is read from an object, with its fields
  row         what is written, with its columns
  evidence    why a column has its type: counts, ranges, the first line that settled it
  pinned      of a column: its type was stated, and nothing changes it
  misfit      a value that does not fit its column: the row stays, the value goes to the column _misfit
  quarantine  the file for bad records, which cannot become rows, with their places and reasons
  drift       what differs between a source and the table that it is loaded into
  feed        all that was settled about one flow of files, in a file
  run sheet   many feeds in one file, with their parameters, order and routes
  route       where a part of a feed goes, by object or by record
  set aside   of an object: it failed so often that a watcher does not try it any more`,
		example: `  trevak infer trevak-demo/stations/stations.csv --type 'Water Depth (m)=long' --column 'Water Depth (m)'
  trevak load trevak-demo/service_log --into harbour.words --tolerate 3 -w trevak-demo/warehouse`},
	{name: "sheets", short: "What a run sheet says",
		text: `A run sheet is a YAML file that begins with sheet: 1 and lists feeds, each with the keys of a feed file (or the name of one) and
its own: name, after, when, group, timeout, retry, add, routes, unlike, silent_after. At the top stand parameters, at_once, timeout,
retry, unlike, tell, arrival, and usual, which holds for every feed that does not say otherwise.

  parameters   $(day)  $(day - 1)  $(day + 2 weeks as %Y/%m/%d)  $(count + 1), stated by --set, the environment, or usual
  types        text  whole  number  date  timestamp  yes_no, or words that are listed
  when         a condition on objects, new and bytes, like objects > 0
  group        feeds that share a name are loaded all or none
  routes       objects: PATTERN, records: CONDITION, and the rest: true with a table, or drop

docs/running.md describes each key, and trevak feed schema --sheet is the JSON Schema for editors.`,
		example: `  trevak run trevak-demo/day.sheet.yaml --check -w trevak-demo/warehouse
  trevak feed schema --sheet > trevak-demo/sheet.schema.json`},
	{name: "exit-codes", short: "What exit codes say, and what a refused run leaves",
		text: `The exit code of every command is one of these.

  0  done
  1  failed: a file, folder, server or table could not be read or written, or another writer was in the way for too long
  2  wrong usage: the command cannot be carried out as it was written
  3  refused: the data does not agree with what was asked, or more records are bad than --tolerate allows

A run that fails, is refused or is killed leaves tables and destinations as they were. Bad records of a refused run are in the quarantine
file that it names. With -o json what went wrong is told as an object on standard output, too (docs/json.md).`,
		example: `  trevak preview trevak-demo/stations -o json
  trevak infer trevak-demo/stations --expect orrin.stations -w trevak-demo/warehouse`},
	{name: "expressions", short: "What --where and --derive take", concerns: []setting.Section{setting.Form},
		text: `Expressions are those of standard SQL (ISO/IEC 9075-2), over one record.

  columns      depth_m, "Sea Area", position.lat (members of objects follow points)
  literals     12, 1.5e3, 'it''s calm', TRUE, NULL, DATE '2031-05-01', TIME '10:00', TIMESTAMP '2031-05-01 10:00:00Z'
  arithmetic   + - * /   MOD(a, b)  ABS(x)  FLOOR(x)  CEILING(x)  SQRT(x)  POWER(x, y)  LN(x)  EXP(x)
  comparison   = <> < <= > >=   BETWEEN a AND b   IN (a, b)   LIKE 'c%m_'   LIKE_REGEX '^c[0-9]+$'
  logic        AND OR NOT   IS NULL   IS TRUE   IS FALSE, and with IS NOT
  text         a || b   UPPER(t)  LOWER(t)  CHAR_LENGTH(t)  TRIM(LEADING '0' FROM t)
               SUBSTRING(t FROM 2 FOR 3)  POSITION('x' IN t)
  dates        EXTRACT(YEAR FROM day), and MONTH, DAY, HOUR, MINUTE, SECOND; in UTC
  nulls        COALESCE(a, b)  NULLIF(a, b)
  conditions   CASE WHEN depth_m > 10 THEN 'deep' ELSE 'shallow' END
  types        CAST(x AS long), and double, decimal(9,2), string, boolean, date, time, timestamp, timestamptz

What is asked of a null is unknown, and --where keeps only records for which the expression is true. Whole numbers divide to whole
numbers. Decimals are exact, also beside whole numbers and literals like 0.10; their quotient is a double. A division by zero, a
number beyond its type or a text that is no value of the type it is cast to ends the run. NULLIF and CASE take care of such values,
and so do AND and OR, whose second side is not asked where the first decides. Words are in any letter case, names of columns too
where that is clear.`,
		example: `  trevak preview trevak-demo/observations --where 'buoy.position.lat > 58' --unnest readings
  trevak preview trevak-demo/observations --unnest readings --nested flatten --derive 'north = buoy_position_lat > 58'`},
}

// topicCommands are the topics as commands that do nothing but have a help.
func (a *app) topicCommands() (out []*cobra.Command) {
	for _, t := range topics {
		cmd := &cobra.Command{Use: t.name, Short: t.short, Long: t.text, Example: t.example}
		cmd.SetHelpFunc(func(cmd *cobra.Command, args []string) {
			a.help(cmd, args)
			a.screen().Printf("%s", a.topicFlags(t))
		})
		out = append(out, cmd)
	}
	return out
}

// topicFlags lists the flags that belong to a topic.
func (a *app) topicFlags(t topic) string {
	var text strings.Builder
	for _, s := range t.sections {
		var f flowFlags
		f.flow = setting.New()
		flags := pflag.NewFlagSet("", pflag.ContinueOnError)
		flags.SortFlags = false
		for _, one := range setting.Table {
			if one.Section == s && one.Flag != "" {
				f.register(flags, one, one.Meaning)
			}
		}
		text.WriteString("\n" + headings[s] + ":\n" + strings.TrimRight(flags.FlagUsagesWrapped(a.helpWidth()), " \n") + "\n")
	}
	return text.String()
}

// helpCommand shows the help of a command or a topic.
func helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND|TOPIC]",
		Short: "Tell of a command or a topic",
		Example: `  trevak help load
  trevak help reading`,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, begun string) (names []string, _ cobra.ShellCompDirective) {
			if of, _, err := cmd.Root().Find(args); err == nil {
				for _, c := range of.Commands() {
					if c.IsAvailableCommand() || c.IsAdditionalHelpTopicCommand() {
						names = append(names, c.Name()+"\t"+c.Short)
					}
				}
			}
			return beginning(names, begun), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			of := cmd.Root()
			for _, name := range args {
				var names []string
				next := of
				for _, c := range of.Commands() {
					names = append(names, c.Name())
					if c.Name() == name {
						next = c
					}
				}
				if next == of {
					e := fault.New(fault.Usage, "there is no command or topic %q", name)
					if near := wording.Nearest(name, names); len(near) > 0 {
						return e.Try("%s", wording.Meant(near))
					}
					return e.Try("they are listed by: %s --help", of.CommandPath())
				}
				of = next
			}
			of.InitDefaultHelpFlag()
			return of.Help()
		},
	}
}
