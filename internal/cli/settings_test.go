package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/testfolder"
)

// TestSettingsPageIsCurrent holds docs/settings.md to what the command prints.
func TestSettingsPageIsCurrent(t *testing.T) {
	page, err := filepath.Abs("../../docs/settings.md")
	if err != nil {
		t.Fatal(err)
	}
	testfolder.Make(t, nil)
	want, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	if got := must(t, []string{"feed", "settings"}, "# Settings").out; got != string(want) {
		t.Error("docs/settings.md is not what it was made of; write it anew with: trevak feed settings > docs/settings.md")
	}
}

// TestEveryFlagIsDocumented holds that there is a line in the docs, or an example, for every flag.
func TestEveryFlagIsDocumented(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	var docs strings.Builder
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		docs.Write(text)
	}
	var visit func(cmd *cobra.Command)
	visit = func(cmd *cobra.Command) {
		cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if !strings.Contains(docs.String(), "--"+f.Name) && !strings.Contains(cmd.Example, "--"+f.Name) {
				t.Errorf("%s --%s has neither an example nor a line in the docs", cmd.CommandPath(), f.Name)
			}
		})
		for _, c := range cmd.Commands() {
			visit(c)
		}
	}
	visit((&app{}).root())
}
