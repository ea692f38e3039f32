package cli

import (
	"context"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/fault"
	"trevak/internal/setting"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// flowFlags are the settings of a flow as the flags of a command, and a feed file that says what they do not.
type flowFlags struct {
	flow *setting.Flow
	feed feedFlag
	// sections are those that the command has.
	sections []setting.Section
	// asWritten says that what is said of columns has rows shown as they would be written.
	asWritten bool
	// table finds a table that is named as the source; nil where there can be none.
	table func(ctx context.Context, arg string) (*table.Table, error)
}

// headings are those of sections in help.
var headings = map[setting.Section]string{setting.Reading: sectionReading, setting.Columns: sectionColumns,
	setting.Records: sectionRecords,
	setting.Form:    sectionForm, setting.Layout: sectionLayout}

// addFlow registers the settings of some sections.
func addFlow(cmd *cobra.Command, sections ...setting.Section) *flowFlags {
	f := &flowFlags{flow: setting.New(), sections: sections}
	for _, s := range sections {
		section(cmd, headings[s], func(flags *pflag.FlagSet) {
			for _, one := range setting.Table {
				if one.Section == s && one.Flag != "" {
					f.register(flags, one, one.Meaning)
				}
			}
		})
	}
	f.feed.add(cmd)
	return f
}

// register makes a flag of a setting.
func (f *flowFlags) register(flags *pflag.FlagSet, s setting.Setting, meaning string) {
	switch p := s.Pointer(f.flow).(type) {
	case *string:
		flags.StringVar(p, s.Flag, *p, meaning)
	case *bool:
		flags.BoolVar(p, s.Flag, *p, meaning)
	case *int:
		flags.IntVar(p, s.Flag, *p, meaning)
	case *[]string:
		flags.StringSliceVar(p, s.Flag, *p, meaning)
	case *setting.Repeated:
		flags.StringArrayVar((*[]string)(p), s.Flag, *p, meaning)
	case *setting.Joined:
		flags.Var(p, s.Flag, meaning)
	default:
		flags.DurationVar(&f.flow.Timeout, s.Flag, f.flow.Timeout, meaning)
	}
}

// also registers single settings with the command's own flags; meaning is what they do there, where that is not the usual.
func (f *flowFlags) also(cmd *cobra.Command, flag, meaning string) {
	s, ok := setting.ByFlag(flag)
	if !ok {
		return
	}
	if meaning == "" {
		meaning = s.Meaning
	}
	f.register(cmd.Flags(), s, meaning)
}

func (f *flowFlags) has(s setting.Section) bool { return slices.Contains(f.sections, s) }

// task makes of the flags, and of what a feed file says besides, what is to be done.
func (f *flowFlags) task(cmd *cobra.Command, sources []string) (t write.Task, err error) {
	defer func() { err = f.feed.blame(err) }()
	cmd.Flags().Visit(func(flag *pflag.Flag) { f.flow.State(flag.Name) })
	if sources, err = f.feed.apply(cmd, f.flow, sources); err != nil {
		return t, err
	}
	if len(sources) == 0 && f.flow.FilesFrom == "" {
		return t, fault.New(fault.Usage, "no source is named, and the feed file has none").Try("name a file, a folder or a pattern")
	}
	if err := f.timely(cmd, sources); err != nil {
		return t, err
	}
	if f.flow.FilesFrom != "" {
		if sources, err = listed(sources, f.flow.FilesFrom); err != nil {
			return t, err
		}
	}
	t, err = f.flow.Task(setting.Env{Sources: sources, Stdin: os.Stdin, Store: storesWith(f.flow.Timeout),
		Form: f.has(setting.Form), Columns: f.has(setting.Columns), Declared: f.feed.declared})
	if err == nil && f.table != nil {
		err = f.ofTable(cmd, &t)
	}
	if f.asWritten {
		t.Formed = f.flow.CorrectsColumns() || len(f.feed.declared) > 0
	}
	return t, err
}

// besidesReading are the flags that speak of texts too, though they are of other sections.
var besidesReading = []string{"nulls", "decimal-mark", "mixed", "scan"}

// ofTable has the rows of a table read, where the source is one.
func (f *flowFlags) ofTable(cmd *cobra.Command, t *write.Task) (err error) {
	if len(t.Sources) != 1 || !isTable(t.Sources[0]) {
		return idle(cmd, "on files", "warehouse", "at")
	}
	names := slices.Clone(besidesReading)
	for _, s := range setting.Table {
		if s.Section == setting.Reading && s.Flag != "" && s.Flag != "mask" {
			names = append(names, s.Flag)
		}
	}
	if err = idle(cmd, "on a table, whose rows are settled", names...); err == nil {
		t.Table, err = f.table(cmd.Context(), t.Sources[0])
	}
	return err
}

// timely checks the time that servers are given, which is for sources that are fetched.
func (f *flowFlags) timely(cmd *cobra.Command, sources []string) error {
	switch {
	case f.flow.Timeout <= 0:
		return fault.New(fault.Usage, "--timeout %s leaves a server no time", f.flow.Timeout).Try("write a duration above 0, like 30s")
	case cmd.Flags().Changed("timeout") && f.flow.FilesFrom == "" && !slices.ContainsFunc(sources, storage.IsURL):
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
