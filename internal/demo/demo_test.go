package demo

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

// contents reads every file below a folder.
func contents(t *testing.T, dir string) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	err := filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		out[filepath.ToSlash(rel)], err = os.ReadFile(path)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestSameScaleGivesTheSameBytes(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	first, err := Write(a, "trevak-demo", 2)
	if err != nil {
		t.Fatal(err)
	}
	second, err := Write(b, "trevak-demo", 2)
	if err != nil {
		t.Fatal(err)
	}
	if first != second {
		t.Errorf("%+v and %+v", first, second)
	}
	these, those := contents(t, a), contents(t, b)
	if len(these) != 12 || len(those) != 12 {
		t.Errorf("%d and %d files", len(these), len(those))
	}
	for name, text := range these {
		if !bytes.Equal(text, those[name]) {
			t.Errorf("%s differs", name)
		}
	}
}

func TestCountsAreTrue(t *testing.T) {
	dir := t.TempDir()
	counts, err := Write(dir, "trevak-demo", 1)
	if err != nil {
		t.Fatal(err)
	}
	files := contents(t, dir)
	if n := bytes.Count(files["tides/tides.tsv"], []byte("\n")) - 1; n != counts.Tides {
		t.Errorf("%d tides, counted %d", n, counts.Tides)
	}
	if n := bytes.Count(files["stations/stations.csv"], []byte("\n")) - 1; n != counts.Stations {
		t.Errorf("%d stations, counted %d", n, counts.Stations)
	}
	observations, readings, withFirmware, words := 0, 0, 0, 0
	for name, text := range files {
		if filepath.Ext(name) != ".gz" {
			continue
		}
		r, err := gzip.NewReader(bytes.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewScanner(r)
		for lines.Scan() {
			var o struct {
				Readings []any
				Firmware string
				Battery  any
			}
			if err := json.Unmarshal(lines.Bytes(), &o); err != nil {
				t.Fatalf("%s: %v in %s", name, err, lines.Text())
			}
			observations++
			readings += len(o.Readings)
			if o.Firmware != "" {
				withFirmware++
			}
			if _, ok := o.Battery.(string); ok {
				words++
			}
		}
	}
	if observations != counts.Observations || readings != counts.Readings || withFirmware != observationsADay || words == 0 ||
		words == withFirmware {
		t.Errorf("%d observations, %d readings, %d with firmware, %d words; counted %+v", observations, readings, withFirmware, words,
			counts)
	}
}
