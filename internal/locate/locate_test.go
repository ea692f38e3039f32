package locate

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/testfolder"
)

func TestResolve(t *testing.T) {
	testfolder.Make(t, map[string]string{"b.csv": "1", "a.csv": "1", "in/c.csv": "1", "in/deep/d.csv": "1", "in/_tmp.csv": "1",
		"in/.hidden/e.csv": "1", "in/empty.csv": "",
		"odd[1].csv": "1", "_named.csv": "1"})
	tests := []struct {
		sources []string
		want    string
		empty   int
		hidden  int
	}{
		{[]string{"*.csv"}, "a.csv b.csv odd[1].csv", 0, 1},
		{[]string{"b.csv", "a.csv", "./b.csv"}, "a.csv b.csv", 0, 0},
		{[]string{"in"}, "in/c.csv in/deep/d.csv", 1, 1},
		{[]string{"in/**/*.csv"}, "in/c.csv in/deep/d.csv", 1, 2},
		{[]string{"{a,b}.csv", "in/c.csv"}, "a.csv b.csv in/c.csv", 0, 0},
		{[]string{"odd[1].csv"}, "odd[1].csv", 0, 0},
		{[]string{"_named.csv"}, "_named.csv", 0, 0},
	}
	for _, test := range tests {
		found, err := Resolve(context.Background(), storage.Stores{"": storage.Disk{}}, test.sources, nil)
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
	testfolder.Make(t, map[string]string{"readings.csv": "1", "void/x.csv": ""})
	for source, want := range map[string]string{
		"reading.csv":   "there is readings.csv",
		"readings*.tsv": "no file matches the pattern",
		"none/x.csv":    "the folder \"none\" does not exist either",
		"void":          "1 empty and 0 hidden objects were passed over",
	} {
		if _, err := Resolve(context.Background(), storage.Stores{"": storage.Disk{}}, []string{source}, nil); err == nil ||
			!strings.Contains(err.Error(), want) || fault.KindOf(err) == 0 {
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
	testfolder.Make(t, map[string]string{"plain": "ab", "named.gz": "not packed", "one": packed(t, long),
		"two": packed(t, "first\n", "second\n")})
	for name, want := range map[string]string{"plain": "ab", "named.gz": "not packed", "one": long, "two": "first\nsecond\n"} {
		s, err := listed(t, name, func(o *Object) { o.Hashed = true }).Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(s)
		if err != nil || string(got) != want {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		again, err := listed(t, name, func(o *Object) { o.Hashed = true }).Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		whole, err := again.Hash()
		again.Close()
		if hash, err2 := s.Hash(); err != nil || err2 != nil || len(hash) != 32 || hash != whole {
			t.Errorf("%s: hashes %s and %s, %v, %v", name, hash, whole, err, err2)
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
	testfolder.Make(t, map[string]string{"cut.gz": whole[:len(whole)/2], "damaged.gz": string(damaged), "x.zst": "\x28\xb5\x2f\xfd....",
		"x.xz": "\xfd7zXZ\x00.........."})
	for name, want := range map[string]string{"cut.gz": "is cut short after", "damaged.gz": "is damaged after", "x.zst": "zstd data is",
		"x.xz": "xz data is"} {
		s, err := listed(t, name, func(o *Object) { o.Hashed = true }).Open(t.Context())
		if err == nil {
			_, err = io.Copy(io.Discard, s)
			s.Close()
		}
		if fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
}

func TestOpenUnpacks(t *testing.T) {
	text := strings.Repeat("some text that packs well\n", 20000)
	var zs, lz, sn, x, zp bytes.Buffer
	write := func(w io.WriteCloser, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 {
		write(zstd.NewWriter(&zs))
		write(lz4.NewWriter(&lz), nil)
		write(xz.NewWriter(&x))
	}
	write(s2.NewWriter(&sn, s2.WriterSnappyCompat()), nil)
	archive := zip.NewWriter(&zp)
	for _, name := range []string{"b/2.csv", "a.csv", "_no.csv"} {
		w, err := archive.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, text); err != nil {
			t.Fatal(err)
		}
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	testfolder.Make(t, map[string]string{"in/1": zs.String(), "in/2": lz.String(), "in/3": x.String(), "in/4": sn.String(),
		"in/5": zp.String(), "in/6": text})
	found, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{"in", "-"}, strings.NewReader(packed(t, text)))
	if err != nil || found.Hidden != 1 {
		t.Fatalf("%+v, %v", found, err)
	}
	var got []string
	for _, o := range found.Objects {
		for range 2 {
			s, err := o.Open(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			all, err := io.ReadAll(s)
			if err != nil || strings.Trim(string(all), "\n") == "" || strings.ReplaceAll(string(all), text, "") != "" {
				t.Errorf("%s: %d bytes, %v", o.Location, len(all), err)
			}
			if err := s.Close(); err != nil {
				t.Error(err)
			}
		}
		s, err := o.Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, o.Location+" "+string(s.Compression))
		s.Close()
	}
	want := "- gzip, in/1 zstd, in/2 lz4, in/3 xz, in/4 snappy, in/5!a.csv zip, in/5!b/2.csv zip, in/6 none"
	if strings.Join(got, ", ") != want {
		t.Errorf("%v, want %s", got, want)
	}
}

func TestExpansionIsGuarded(t *testing.T) {
	var b bytes.Buffer
	w, err := zstd.NewWriter(&b)
	if err != nil {
		t.Fatal(err)
	}
	zeros := make([]byte, 1<<24)
	for range 70 {
		if _, err := w.Write(zeros); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	testfolder.Make(t, map[string]string{"bomb": b.String()})
	for _, allowed := range []bool{false, true} {
		s, err := listed(t, "bomb", func(o *Object) { o.MayExpand = allowed }).Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		_, err = io.Copy(io.Discard, s)
		s.Close()
		if allowed != (err == nil) || err != nil && !strings.Contains(err.Error(), "--allow-expansion") {
			t.Errorf("allowed %v: %v", allowed, err)
		}
	}
}

func TestRanges(t *testing.T) {
	for pattern, want := range map[string]string{"a{0..2}": "a{0,1,2}", "{08..10}.csv": "{08,09,10}.csv", "{a,b}": "{a,b}"} {
		if got, err := spellRanges(pattern); got != want || err != nil {
			t.Errorf("%s: %s, %v", pattern, got, err)
		}
	}
	for _, pattern := range []string{"{3..1}", "{0..99999}", "{0..99999999999999999999}"} {
		if _, err := spellRanges(pattern); fault.KindOf(err) != fault.Usage {
			t.Errorf("%s: %v", pattern, err)
		}
	}
}

func TestReadStopsWithItsContext(t *testing.T) {
	testfolder.Make(t, map[string]string{"plain": "ab"})
	ctx, cancel := context.WithCancel(t.Context())
	s, err := listed(t, "plain", nil).Open(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	cancel()
	if _, err := s.Read(make([]byte, 1)); err != context.Canceled {
		t.Errorf("%v", err)
	}
}

// listed finds one file.
func listed(t *testing.T, name string, set func(*Object)) Object {
	t.Helper()
	found, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{name}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if set != nil {
		set(&found.Objects[0])
	}
	return found.Objects[0]
}

func TestChangedFilesAreNoticed(t *testing.T) {
	for name, change := range map[string]func(path string) error{
		"grown":       func(path string) error { return appendTo(path, "4,5\n") },
		"cut":         func(path string) error { return os.Truncate(path, 5) },
		"overwritten": func(path string) error { return os.WriteFile(path, []byte("c,d\n8,9\n3,3\n"), 0o644) },
	} {
		testfolder.Make(t, map[string]string{"a.csv": "a,b\n1,2\n3,4\n"})
		early := time.Now().Add(-time.Hour)
		if err := os.Chtimes("a.csv", early, early); err != nil {
			t.Fatal(err)
		}
		o := listed(t, "a.csv", nil)
		s, err := o.Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Unchanged(); err != nil {
			t.Error(err)
		}
		if err := change("a.csv"); err != nil {
			t.Fatal(err)
		}
		_, _, section := o.Section(t.Context(), 0, 3)
		_, opened := o.Open(t.Context())
		for when, err := range map[string]error{"at the end": s.Unchanged(), "opened anew": opened, "from within": section,
			"looked at": o.Unchanged(t.Context())} {
			if fault.KindOf(err) != fault.Storage || !strings.Contains(err.Error(), "a.csv: was changed while it was read") {
				t.Errorf("%s, %s: %v", name, when, err)
			}
		}
		s.Close()
	}
}

func appendTo(path, text string) error {
	file, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = file.WriteString(text)
	return errors.Join(err, file.Close())
}

func TestOwnFilesInFoldersArePassedOver(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/a.csv": "1", "in/store/.commit.lock": "", "in/store/ops/r/data/x.csv": "1",
		"in/t/metadata/v1.metadata.json": "{}", "in/t/data/y.csv": "1"})
	found, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{"in"}, nil)
	if err != nil || len(found.Objects) != 1 || len(found.Passed) != 2 || found.Passed[0] != (Passed{"in/store", "warehouse"}) ||
		found.Passed[1] != (Passed{"in/t", "table"}) {
		t.Errorf("%+v, %v", found, err)
	}
	if _, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{"in/store"}, nil); err == nil ||
		!strings.Contains(err.Error(), "the warehouse in/store was passed over") {
		t.Error(err)
	}
}

func TestMembersAreWhatTheyAre(t *testing.T) {
	var text bytes.Buffer
	w := zip.NewWriter(&text)
	for _, name := range []string{"../up.csv", "a!b.csv", "x.csv", "x.csv"} {
		m, err := w.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(m, "n\n"+name)
	}
	link := &zip.FileHeader{Name: "link.csv"}
	link.SetMode(os.ModeSymlink | 0o777)
	m, err := w.CreateHeader(link)
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(m, "/etc/passwd")
	w.Close()
	testfolder.Make(t, map[string]string{"in.zip": text.String(), "od!d.csv": "n\n1"})
	found, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{"in.zip", "od!d.csv"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, o := range found.Objects {
		plain := o.AtHand()
		got = append(got, fmt.Sprintf("%s %s %v", o.Location, o.Holder(), plain))
		if s, err := o.Open(t.Context()); err != nil {
			t.Error(err)
		} else if content, err := io.ReadAll(s); err != nil || !strings.HasPrefix(string(content), "n\n") || s.Unchanged() != nil ||
			s.Close() != nil {
			t.Errorf("%s: %q, %v", o.Location, content, err)
		}
	}
	if want := "in.zip!../up.csv in.zip false|in.zip!a!b.csv in.zip false|in.zip!x.csv in.zip false|in.zip!x.csv in.zip " +
		"false|od!d.csv od!d.csv true"; strings.Join(got, "|") != want {
		t.Errorf("%s", strings.Join(got, "|"))
	}
	if len(found.Passed) != 1 || found.Passed[0] != (Passed{"in.zip!link.csv", "link"}) {
		t.Errorf("%+v", found.Passed)
	}
}

// TestArchivesThatOverlap are refused: a few bytes in them could be very many members.
func TestArchivesThatOverlap(t *testing.T) {
	var text bytes.Buffer
	w := zip.NewWriter(&text)
	m, err := w.CreateRaw(&zip.FileHeader{Name: "a.csv", Method: zip.Store, CompressedSize64: 60, UncompressedSize64: 60})
	if err != nil {
		t.Fatal(err)
	}
	m.Write([]byte("short"))
	if m, err = w.Create("b.csv"); err != nil {
		t.Fatal(err)
	}
	io.WriteString(m, "id\n1\n")
	w.Close()
	testfolder.Make(t, map[string]string{"in.zip": text.String()})
	if _, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{"in.zip"}, nil); fault.KindOf(err) != fault.Input ||
		!strings.Contains(err.Error(), "members overlap") {
		t.Error(err)
	}
}

// TestOverlappingSourcesGiveEachObjectOnce names a folder and what lies in it, by a pattern that matches both and by sources that overlap.
func TestOverlappingSourcesGiveEachObjectOnce(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"abc/a.csv", "abc/x.csv"} {
		if err := storage.WriteAll(t.Context(), storage.Disk{}, storage.Join(dir, name), []byte("id\n1\n"), storage.Creation{}); err != nil {
			t.Fatal(err)
		}
	}
	for _, sources := range [][]string{{storage.Join(dir, "**", "a*")}, {storage.Join(dir, "abc"), storage.Join(dir, "abc", "a.csv")},
		{storage.Join(dir, "*"), storage.Join(dir, "**", "*.csv")}} {
		found, err := Resolve(t.Context(), storage.Disk{}, sources, nil)
		if err != nil || len(found.Objects) != 2 {
			t.Errorf("%v: %d objects, %v", sources, len(found.Objects), err)
		}
	}
}
