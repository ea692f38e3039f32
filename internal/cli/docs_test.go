package cli

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestCommandsInDocs runs the commands of the README and of each page of the docs, in their order, on the demo data.
func TestCommandsInDocs(t *testing.T) {
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	pages, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	if err != nil || len(pages) < 5 {
		t.Fatal(pages, err)
	}
	shots := regexp.MustCompile(`!\[[^]]*\]\((docs/screenshots/[a-z-]+\.png)\)`)
	for _, page := range append([]string{filepath.Join(root, "README.md")}, pages...) {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		var commands []string
		before := ""
		for line := range strings.Lines(string(text)) {
			line = strings.TrimRight(line, "\n")
			if m := shots.FindStringSubmatch(line); m != nil {
				// Each picture is of the command above it, of which docs/screenshots/take makes it.
				if _, err := os.Stat(filepath.Join(root, m[1])); err != nil || !strings.HasPrefix(before, "    trevak ") {
					t.Errorf("%s: %s has no command above it: %v", page, m[1], err)
				}
			}
			if command, ok := strings.CutPrefix(line, "    "); ok &&
				(strings.HasPrefix(command, "trevak ") || strings.HasPrefix(command, "export ")) {
				commands = append(commands, command)
			}
			if strings.TrimSpace(line) != "" {
				before = line
			}
		}
		runAll(t, page, commands)
	}
}

// runAll runs commands one after the other in a folder that a demo has left.
func runAll(t *testing.T, page string, commands []string) {
	if len(commands) == 0 {
		if filepath.Base(page) == "README.md" {
			t.Error("the README has no commands")
		}
		return
	}
	testfolder.Make(t, nil)
	t.Setenv("TREVAK_WAREHOUSE", "")
	must(t, []string{"demo"}, "agree")
	exports := ""
	for _, command := range commands {
		if strings.HasPrefix(command, "export ") {
			exports += command + "\n"
			continue
		}
		command, note, _ := strings.Cut(command, "  # exit code ")
		want := 0
		if note != "" {
			want = int(note[0] - '0')
		}
		shell := exec.Command("sh", "-c", exports+strings.Replace(command, "trevak ", program+" ", 1))
		out, err := shell.CombinedOutput()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) || shell.ProcessState.ExitCode() != want {
			t.Errorf("%s: %s: %v\n%s", page, command, err, out)
		}
	}
}
