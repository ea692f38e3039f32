package cli

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"trevak/internal/testfolder"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// TestHelpListsEveryFlag reads the help of every command, whose lines of flags fit the screen.
func TestHelpListsEveryFlag(t *testing.T) {
	t.Setenv("COLUMNS", "80")
	var out bytes.Buffer
	a := &app{out: &out, err: &out}
	root := a.root()
	root.SetOut(&out)
	var visit func(cmd *cobra.Command)
	visit = func(cmd *cobra.Command) {
		out.Reset()
		a.wholeHelp = true
		if err := cmd.Help(); err != nil {
			t.Fatal(err)
		}
		text := out.String()
		if cmd.IsAdditionalHelpTopicCommand() {
			return
		}
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if n := strings.Count(text, "\n      --"+f.Name+" ") + strings.Count(text, "\n  -"+f.Shorthand+", --"+f.Name+" "); n != 1 {
				t.Errorf("trevak %s lists --%s %d times", cmd.Name(), f.Name, n)
			}
		})
		_, flags, _ := strings.Cut(text, "\nFlags:\n")
		for line := range strings.Lines(flags) {
			if utf8.RuneCountInString(strings.TrimRight(line, "\n")) > 80 {
				t.Errorf("trevak %s: %q is longer than the screen is wide", cmd.Name(), line)
			}
		}
		for _, child := range cmd.Commands() {
			visit(child)
		}
	}
	visit(root)
}

// TestShortHelp reads what is shown at first: it fits a screen, and says where the rest is.
func TestShortHelp(t *testing.T) {
	t.Setenv("COLUMNS", "100")
	testfolder.Make(t, nil)
	for _, name := range []string{"preview", "infer", "weigh", "convert", "load"} {
		r := must(t, []string{name, "--help"}, "Usage:\n  trevak "+name+" ", "Examples:\n  trevak "+name+" ", "Flags that matter most:",
			name+" --help-all. By topic: trevak help reading, types, columns, ")
		if lines := strings.Count(r.out, "\n"); lines > 40 {
			t.Errorf("%s --help has %d lines", name, lines)
		}
		if n := strings.Count(r.out, "\n  trevak "+name); n > 4 {
			t.Errorf("%s --help has %d examples", name, n)
		}
		whole := must(t, []string{name, "--help-all"}, "\nFlags:\n", sectionReading+":\n", "Flags of every command:\n")
		if strings.Count(whole.out, "\n") < 80 {
			t.Errorf("%s --help-all is short: %s", name, whole.out)
		}
		if other := must(t, []string{"help", name}, ""); other.out != r.out {
			t.Errorf("help %s differs from %s --help", name, name)
		}
	}
	for _, topic := range topics {
		must(t, []string{"help", topic.name}, "Examples:\n  ")
	}
	must(t, []string{"help", "reading"}, "--delimiter text", "Each file of")
	must(t, []string{"help", "feed"}, "A feed file holds")
	must(t, []string{"help", "feed", "check"}, "trevak feed check FILE")
	must(t, []string{"help"}, "Topics:", "exit-codes")
	refused(t, 2, []string{"help", "lod"}, `there is no command or topic "lod"; the nearest name is load`)
	if a, b := must(t, []string{"--version"}, "trevak "), must(t, []string{"version"}, "trevak "); a.out != b.out {
		t.Errorf("%s%s", a.out, b.out)
	}
}

func TestHelpHasSections(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out, err: &out}
	root := a.root()
	root.SetOut(&out)
	root.SetArgs([]string{"load", "--help-all"})
	if err := root.Execute(); err != nil {
		t.Fatal(err)
	}
	at := 0
	for _, heading := range []string{"Usage:", "Examples:", "Flags:", sectionReading + ":", sectionColumns + ":", sectionForm + ":",
		sectionRecords + ":", sectionLayout + ":", "Flags of every command:"} {
		next := strings.Index(out.String()[at:], "\n"+heading+"\n")
		if next < 0 {
			t.Fatalf("%q does not follow in %s", heading, out.String())
		}
		at += next + 1
	}
}

func TestWrapped(t *testing.T) {
	text := "one two three\nfour\n\n  as it is\n  written\n\nfünf"
	if got, want := wrapped(text, 8), "one two\nthree\nfour\n\n  as it is\n  written\n\nfünf"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}
