package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/setting"
)

// settingsCommand prints the reference of all settings.
func (a *app) settingsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "settings",
		Short: "Print the reference of all settings and flags, as Markdown",
		Example: `  trevak feed settings
  trevak feed settings > trevak-demo/settings.md`,
		Args: few(0, 0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.plain("settings, which is a page"); err != nil {
				return err
			}
			a.screen().Printf("%s", settingsPage(cmd.Root()))
			return nil
		},
	}
}

// settingsPage is the reference: what a flow can be asked, by section, with its flag and its key in feed files, and then the flags that
// belong to single commands.
func settingsPage(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString("# Settings\n\nEverything that a flow of files can be asked, as a flag on the command line and as a key in a feed file. " +
		"This page is what\n`trevak feed settings` prints.\n")
	titles := []struct {
		section setting.Section
		title   string
	}{{setting.Source, "Source"}, {setting.Reading, sectionReading}, {setting.Columns, sectionColumns}, {setting.Form, sectionForm},
		{setting.Records, sectionRecords}, {setting.Layout, sectionLayout}, {setting.Load, "Table"}}
	for _, t := range titles {
		fmt.Fprintf(&b, "\n## %s\n\n| flag | key in feed files | usual | what it does |\n|---|---|---|---|\n", t.title)
		for _, s := range setting.Table {
			if s.Section != t.section {
				continue
			}
			what, meaning := pflag.UnquoteUsage(&pflag.Flag{Usage: s.Meaning, Value: &plainValue{}})
			flag := ""
			if s.Flag != "" {
				flag = "--" + s.Flag
				if s.Kind() != setting.YesNo {
					flag += " " + strings.ToUpper(what)
				}
			}
			fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", code(flag), code(s.Key), code(s.Usual), inCell(meaning))
		}
	}
	b.WriteString("\n## Flags of single commands\n\n| command | flag | what it does |\n|---|---|---|\n")
	commandFlags(&b, root)
	return b.String()
}

// commandFlags lists the flags of commands that are no settings.
func commandFlags(b *strings.Builder, cmd *cobra.Command) {
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		s, of := setting.ByFlag(f.Name)
		if of && s.Meaning == f.Usage || f.Hidden || cmd.HasParent() && f.Name == "help" {
			return
		}
		what, meaning := pflag.UnquoteUsage(f)
		flag := "--" + f.Name
		if f.Shorthand != "" {
			flag = "-" + f.Shorthand + ", " + flag
		}
		if f.Value.Type() != "bool" {
			flag += " " + strings.ToUpper(what)
		}
		fmt.Fprintf(b, "| %s | %s | %s |\n", code(cmd.CommandPath()), code(flag), inCell(meaning))
	})
	for _, c := range cmd.Commands() {
		if c.Name() != "help" && !c.IsAdditionalHelpTopicCommand() {
			commandFlags(b, c)
		}
	}
}

// code writes a text as code, nothing where there is none.
func code(text string) string {
	if text == "" {
		return ""
	}
	return "`" + strings.ReplaceAll(text, "|", "\\|") + "`"
}

// inCell writes a text as it stands in a cell of a table.
func inCell(text string) string { return strings.ReplaceAll(text, "|", "\\|") }

// plainValue is a value of a flag that is a text.
type plainValue struct{}

func (plainValue) String() string   { return "" }
func (plainValue) Set(string) error { return nil }
func (plainValue) Type() string     { return "value" }
