package locate

import (
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"trevak/internal/fault"
)

// files makes files in a temporary folder, which becomes the working folder.
func files(t *testing.T, contents map[string]string) {
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

func TestResolve(t *testing.T) {
	files(t, map[string]string{"b.csv": "1", "a.csv": "1", "in/c.csv": "1", "in/deep/d.csv": "1", "in/_tmp.csv": "1", "in/.hidden/e.csv": "1", "in/empty.csv": "",
		"odd[1].csv": "1", "_named.csv": "1"})
	tests := []struct {
		sources []string
		want    string
		empty   int
		hidden  int
	}{
		{[]string{"*.csv"}, "a.csv b.csv odd[1].csv", 0, 1},
		{[]string{"b.csv", "a.csv", "./b.csv"}, "b.csv a.csv", 0, 0},
		{[]string{"in"}, "in/c.csv in/deep/d.csv", 1, 1},
		{[]string{"in/**/*.csv"}, "in/c.csv in/deep/d.csv", 1, 2},
		{[]string{"{a,b}.csv", "in/c.csv"}, "a.csv b.csv in/c.csv", 0, 0},
		{[]string{"odd[1].csv"}, "odd[1].csv", 0, 0},
		{[]string{"_named.csv"}, "_named.csv", 0, 0},
	}
	for _, test := range tests {
		found, err := Resolve(context.Background(), test.sources)
		var got []string
		for _, o := range found.Objects {
			got = append(got, filepath.ToSlash(o.Location))
		}
		if err != nil || strings.Join(got, " ") != test.want || found.Empty != test.empty || found.Hidden != test.hidden {
			t.Errorf("%v: %v, %d empty, %d hidden, %v; want %s", test.sources, got, found.Empty, found.Hidden, err, test.want)
		}
	}
}

func TestResolveExplains(t *testing.T) {
	files(t, map[string]string{"readings.csv": "1", "void/x.csv": ""})
	for source, want := range map[string]string{
		"reading.csv":   "there is readings.csv",
		"readings*.tsv": "no file matches the pattern",
		"none/x.csv":    "the folder \"none\" does not exist either",
		"void":          "1 empty and 0 hidden files were passed over",
	} {
		if _, err := Resolve(context.Background(), []string{source}); err == nil || !strings.Contains(err.Error(), want) || fault.KindOf(err) == 0 {
			t.Errorf("%s: %v, want %q", source, err, want)
		}
	}
}

func packed(t *testing.T, texts ...string) string {
	t.Helper()
	var b bytes.Buffer
	for _, text := range texts {
		w := gzip.NewWriter(&b)
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	}
	return b.String()
}

func TestOpen(t *testing.T) {
	long := strings.Repeat("some text\n", 100000)
	files(t, map[string]string{"plain": "ab", "named.gz": "not packed", "one": packed(t, long), "two": packed(t, "first\n", "second\n")})
	for name, want := range map[string]string{"plain": "ab", "named.gz": "not packed", "one": long, "two": "first\nsecond\n"} {
		s, err := Object{Location: name}.Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(s)
		if err != nil || string(got) != want {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		if info, _ := os.Stat(name); s.Stored() != info.Size() {
			t.Errorf("%s: %d stored bytes counted of %d", name, s.Stored(), info.Size())
		}
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	}
}

func TestOpenRefuses(t *testing.T) {
	whole := packed(t, strings.Repeat("some text that packs\n", 5000))
	damaged := []byte(whole)
	damaged[len(damaged)-20] ^= 0xff
	files(t, map[string]string{"cut.gz": whole[:len(whole)/2], "damaged.gz": string(damaged), "x.zst": "\x28\xb5\x2f\xfd....", "x.zip": "PK\x03\x04"})
	for name, want := range map[string]string{"cut.gz": "is cut short after", "damaged.gz": "is damaged after", "x.zst": "packed with zstd", "x.zip": "packed with zip"} {
		s, err := Object{Location: name}.Open(t.Context())
		if err == nil {
			_, err = io.Copy(io.Discard, s)
			s.Close()
		}
		if fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
}

func TestReadStopsWithItsContext(t *testing.T) {
	files(t, map[string]string{"plain": "ab"})
	ctx, cancel := context.WithCancel(t.Context())
	s, err := Object{Location: "plain"}.Open(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	cancel()
	if _, err := s.Read(make([]byte, 1)); err != context.Canceled {
		t.Errorf("%v", err)
	}
}
