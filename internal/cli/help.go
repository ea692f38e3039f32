package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/setting"
)

// Sections of the flags in help texts. Flags without one are the command's own, and come first.
const (
	sectionReading = "Reading"
	sectionColumns = "Columns and their types"
	sectionForm    = "Form of rows"
	sectionRecords = "Records that fail, and added columns"
	sectionLayout  = "Layout and compression"
)

// Annotations: the section that a flag belongs to, and the flags that the short help of a command shows.
const (
	sectionKey = "trevak_section"
	firstKey   = "trevak_first"
)

// section adds the flags that define makes to a command, under a heading in its help.
func section(cmd *cobra.Command, heading string, define func(flags *pflag.FlagSet)) {
	flags := pflag.NewFlagSet(heading, pflag.ContinueOnError)
	define(flags)
	flags.VisitAll(func(f *pflag.Flag) {
		f.Annotations = map[string][]string{sectionKey: {heading}}
		cmd.Flags().AddFlag(f)
	})
}

// first says which flags of a command matter most: its short help shows those.
func first(cmd *cobra.Command, names ...string) {
	cmd.Annotations = map[string]string{firstKey: strings.Join(names, " ")}
}

// firstFlags are the flags that a command's short help shows, in their order; none where it shows all.
func firstFlags(cmd *cobra.Command) []string { return strings.Fields(cmd.Annotations[firstKey]) }

// isLong reports whether a command has more flags than its short help shows.
func isLong(cmd *cobra.Command) bool { return len(firstFlags(cmd)) > 0 }

// helpAll is the flag for the whole help of a command. It sets the flag for help.
type helpAll struct {
	app *app
	cmd *cobra.Command
}

func (h helpAll) String() string   { return "false" }
func (h helpAll) Type() string     { return "bool" }
func (h helpAll) IsBoolFlag() bool { return true }

func (h helpAll) Set(text string) error {
	h.app.wholeHelp = text == "true"
	return h.cmd.Flags().Set("help", text)
}

// addHelp gives a command and those below it their flags for help.
func (a *app) addHelp(cmd *cobra.Command) {
	cmd.InitDefaultHelpFlag()
	cmd.Flags().Lookup("help").Usage = "show how the command is used"
	if isLong(cmd) {
		cmd.Flags().Var(helpAll{a, cmd}, "help-all", "show all flags as well, with what the command does")
		cmd.Flags().Lookup("help-all").NoOptDefVal = "true"
	}
	for _, c := range cmd.Commands() {
		a.addHelp(c)
	}
}

// help writes what a command is for and how it is used: in short, or with everything.
func (a *app) help(cmd *cobra.Command, _ []string) {
	out := cmd.OutOrStdout()
	text := cmd.Long
	if isLong(cmd) && !a.wholeHelp {
		text = cmd.Short + "."
	} else if text == "" {
		text = cmd.Short
	}
	fmt.Fprintf(out, "%s\n", wrapped(text, a.helpWidth()))
	if cmd.Runnable() || cmd.HasSubCommands() {
		fmt.Fprintf(out, "\n%s", cmd.UsageString())
	} else if cmd.HasExample() {
		fmt.Fprintf(out, "\nExamples:\n%s\n", cmd.Example)
	}
}

// helpWidth is the line length of help texts.
func (a *app) helpWidth() int {
	if width := a.screen().Width; width < math.MaxInt32 {
		return width
	}
	return defaultWidth
}

// wrapped breaks the lines of paragraphs anew. Paragraphs of which a line is indented stay as they are.
func wrapped(text string, width int) string {
	paragraphs := strings.Split(strings.TrimSpace(text), "\n\n")
	for i, p := range paragraphs {
		if strings.HasPrefix(p, " ") || strings.Contains(p, "\n ") {
			continue
		}
		var b strings.Builder
		column := 0
		for _, word := range strings.Fields(p) {
			n := utf8.RuneCountInString(word)
			switch {
			case column == 0:
			case column+1+n > width:
				b.WriteByte('\n')
				column = 0
			default:
				b.WriteByte(' ')
				column++
			}
			b.WriteString(word)
			column += n
		}
		paragraphs[i] = b.String()
	}
	return strings.Join(paragraphs, "\n\n")
}

// usage writes how a command is used, the flags of commands that have many in sections.
func (a *app) usage(cmd *cobra.Command) error {
	var text strings.Builder
	text.WriteString("Usage:")
	switch {
	case cmd.HasAvailableSubCommands():
		text.WriteString("\n  " + cmd.CommandPath() + " COMMAND")
	case cmd.Runnable():
		text.WriteString("\n  " + cmd.UseLine())
	}
	if cmd.HasExample() {
		text.WriteString("\n\nExamples:\n" + a.examples(cmd))
	}
	listCommands(&text, "Commands", cmd, func(c *cobra.Command) bool { return c.IsAvailableCommand() || c.Name() == "help" })
	if short := firstFlags(cmd); len(short) > 0 && !a.wholeHelp {
		text.WriteString(a.fewFlags(cmd, short))
	} else {
		text.WriteString(a.flagSections(cmd))
	}
	listCommands(&text, "Topics", cmd, (*cobra.Command).IsAdditionalHelpTopicCommand)
	if cmd.HasAvailableSubCommands() {
		text.WriteString("\n\n\"" + cmd.CommandPath() + " COMMAND --help\" tells more about a command")
		if !cmd.HasParent() {
			text.WriteString(",\n\"trevak help TOPIC\" about a topic")
		}
		text.WriteByte('.')
	}
	_, err := fmt.Fprintln(cmd.OutOrStderr(), text.String())
	return err
}

// shortExamples is how many examples the short help has.
const shortExamples = 3

// examples are those of a command, the first few in the short help.
func (a *app) examples(cmd *cobra.Command) string {
	lines := strings.Split(cmd.Example, "\n")
	if isLong(cmd) && !a.wholeHelp {
		lines = lines[:min(shortExamples, len(lines))]
	}
	return strings.Join(lines, "\n")
}

// fewFlags lists the flags that matter most, and says where the others are told of.
func (a *app) fewFlags(cmd *cobra.Command, names []string) string {
	few := pflag.NewFlagSet("", pflag.ContinueOnError)
	few.SortFlags = false
	for _, name := range names {
		few.AddFlag(cmd.Flags().Lookup(name))
	}
	cmd.InheritedFlags().VisitAll(func(f *pflag.Flag) {
		if f.Name == "output" {
			few.AddFlag(f)
		}
	})
	all := 0
	cmd.Flags().VisitAll(func(*pflag.Flag) { all++ })
	text := "\n\nFlags that matter most:\n" + strings.TrimRight(few.FlagUsagesWrapped(a.helpWidth()), " \n")
	var about []string
	for _, t := range topics {
		if slices.ContainsFunc(t.concerns, func(s setting.Section) bool { return hasSection(cmd, headings[s]) }) {
			about = append(about, t.name)
		}
	}
	if cmd.Flags().Lookup("feed") != nil {
		about = append(about, "feed")
	}
	if cmd.Flags().Lookup("set") != nil {
		about = append(about, "sheets")
	}
	return text + "\n\n" + wrapped(fmt.Sprintf("All %d flags: %s --help-all. By topic: trevak help %s.", all, cmd.CommandPath(),
		strings.Join(about, ", ")), a.helpWidth())
}

// hasSection reports whether a command has flags of a section.
func hasSection(cmd *cobra.Command, heading string) (has bool) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) { has = has || slices.Contains(f.Annotations[sectionKey], heading) })
	return has
}

// listCommands lists those commands of a command that are wanted.
func listCommands(text *strings.Builder, heading string, of *cobra.Command, wanted func(*cobra.Command) bool) {
	for _, c := range of.Commands() {
		if !wanted(c) {
			continue
		}
		if heading != "" {
			text.WriteString("\n\n" + heading + ":")
			heading = ""
		}
		fmt.Fprintf(text, "\n  %-*s %s", c.NamePadding(), c.Name(), c.Short)
	}
}

// flagSections lists the flags of a command, those of its own first, then by section, then those that every command has.
func (a *app) flagSections(cmd *cobra.Command) string {
	width := a.helpWidth()
	var text strings.Builder
	list := func(heading string, flags *pflag.FlagSet) {
		if flags.HasAvailableFlags() {
			text.WriteString("\n\n" + heading + ":\n" + strings.TrimRight(flags.FlagUsagesWrapped(width), " \n"))
		}
	}
	own := pflag.NewFlagSet("", pflag.ContinueOnError)
	sections := map[string]*pflag.FlagSet{}
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		heading := f.Annotations[sectionKey]
		if len(heading) == 0 {
			own.AddFlag(f)
			return
		}
		if sections[heading[0]] == nil {
			sections[heading[0]] = pflag.NewFlagSet("", pflag.ContinueOnError)
		}
		sections[heading[0]].AddFlag(f)
	})
	list("Flags", own)
	for _, heading := range []string{sectionReading, sectionColumns, sectionForm, sectionRecords, sectionLayout} {
		if flags := sections[heading]; flags != nil {
			list(heading, flags)
		}
	}
	list("Flags of every command", cmd.InheritedFlags())
	return text.String()
}
