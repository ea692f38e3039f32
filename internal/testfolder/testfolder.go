// Package testfolder makes the files that a test works on.
package testfolder

import (
	"os"
	"path/filepath"
	"testing"
)

// Make makes files, by their paths and contents, in a temporary folder, which becomes the working folder of the test.
func Make(t testing.TB, contents map[string]string) {
	t.Helper()
	t.Chdir(t.TempDir())
	for name, text := range contents {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
