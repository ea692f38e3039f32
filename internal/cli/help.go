package cli

import (
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Sections of the flags in help texts. Flags without one are the command's own, and come first.
const (
	sectionReading = "Reading"
	sectionColumns = "Columns and their types"
	sectionForm    = "Form of rows"
	sectionRecords = "Records that fail, and added columns"
	sectionLayout  = "Layout and compression"
)

// sectionKey is the annotation of a flag that holds its section.
const sectionKey = "trevak_section"

// section adds the flags that define makes to a command, under a heading in its help.
func section(cmd *cobra.Command, heading string, define func(flags *pflag.FlagSet)) {
	flags := pflag.NewFlagSet(heading, pflag.ContinueOnError)
	define(flags)
	flags.VisitAll(func(f *pflag.Flag) {
		f.Annotations = map[string][]string{sectionKey: {heading}}
		cmd.Flags().AddFlag(f)
	})
}

// help writes what a command is for, and how it is used.
func (a *app) help(cmd *cobra.Command, _ []string) {
	text := cmd.Long
	if text == "" {
		text = cmd.Short
	}
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "%s\n\n", wrapped(text, a.helpWidth()))
	if cmd.Runnable() || cmd.HasSubCommands() {
		fmt.Fprint(out, cmd.UsageString())
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
	if cmd.Runnable() {
		text.WriteString("\n  " + cmd.UseLine())
	}
	if cmd.HasAvailableSubCommands() {
		text.WriteString("\n  " + cmd.CommandPath() + " [command]")
	}
	if cmd.HasExample() {
		text.WriteString("\n\nExamples:\n" + cmd.Example)
	}
	listCommands(&text, "Commands", cmd, func(c *cobra.Command) bool { return c.IsAvailableCommand() || c.Name() == "help" })
	text.WriteString(a.flagSections(cmd))
	listCommands(&text, "Other topics", cmd, (*cobra.Command).IsAdditionalHelpTopicCommand)
	if cmd.HasAvailableSubCommands() {
		text.WriteString("\n\n\"" + cmd.CommandPath() + " [command] --help\" tells more about a command.")
	}
	_, err := fmt.Fprintln(cmd.OutOrStderr(), text.String())
	return err
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
