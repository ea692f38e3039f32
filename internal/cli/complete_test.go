package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestCompletion asks for what a shell would be given.
func TestCompletion(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	must(t, []string{"load", "r.csv", "--into", "ops.readings"}, "ops.readings")
	for line, want := range map[string]string{
		"lo|":                                "load",
		"load r.csv --into |":                "ops.readings",
		"load r.csv --drift |":               "grow hold stop",
		"load r.csv --codec z|":              "zstd",
		"describe op|":                       "ops.readings",
		"infer o|":                           "ops.readings",
		"alter ops.readings --drop dep|":     "depth_m",
		"alter ops.readings --rename |":      "Buoy_Code= observed_at= depth_m= note=",
		"load r.csv --only note,|":           "note,Buoy Code note,observed at note,depth (m) note,note",
		"load r.csv --partition day(obs|":    "day(observed at",
		"preview r.csv -o |":                 "table json",
		"convert r.csv --to x/ --format nd|": "ndjson",
		"help rea|":                          "reading",
		"help feed c|":                       "check",
		"completion |":                       "bash zsh fish powershell",
		"schema ops.readings --emit d|":      "ddl",
		"infer r.csv --delimiter |":          "comma semicolon tab pipe blanks none",
		"load none.csv --only |":             "",
		"alter ops.none --drop |":            "",
		"describe ops.readings |":            "",
	} {
		args := append([]string{"__complete"}, strings.Split(strings.TrimSuffix(line, "|"), " ")...)
		r := must(t, args, "")
		var got []string
		for answer := range strings.Lines(r.out) {
			word, _, _ := strings.Cut(strings.TrimSpace(answer), "\t")
			if !strings.HasPrefix(word, ":") {
				got = append(got, word)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %q, want %q", line, strings.Join(got, " "), want)
		}
	}
	for shell, mark := range map[string]string{"bash": "__start_trevak", "zsh": "#compdef trevak", "fish": "complete -c trevak",
		"powershell": "Register-ArgumentCompleter"} {
		must(t, []string{"completion", shell}, mark)
	}
	refused(t, 2, []string{"completion", "bsh"}, "the nearest name is bash; use bash, zsh, fish or powershell")
	refused(t, 2, []string{"completion", "bash", "-o", "json"}, "-o json has no effect on completion")
}

// TestManualPages holds that there is a page for each command, with its flags.
func TestManualPages(t *testing.T) {
	testfolder.Make(t, nil)
	must(t, []string{"man", "share/man1"}, "manual pages in share/man1")
	pages, err := filepath.Glob("share/man1/*.1")
	if err != nil || !slices.Contains(pages, filepath.Join("share", "man1", "trevak-load.1")) || len(pages) < 15 {
		t.Errorf("%v, %v", pages, err)
	}
	text, err := os.ReadFile("share/man1/trevak-load.1")
	if err != nil || !strings.Contains(string(text), "\\-\\-partition") && !strings.Contains(string(text), "--partition") {
		t.Errorf("%v: %.400s", err, text)
	}
}
