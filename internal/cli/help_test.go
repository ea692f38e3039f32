package cli

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

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
		if err := cmd.Help(); err != nil {
			t.Fatal(err)
		}
		text := out.String()
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

func TestHelpHasSections(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out, err: &out}
	root := a.root()
	root.SetOut(&out)
	root.SetArgs([]string{"load", "--help"})
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
