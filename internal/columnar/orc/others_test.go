package orc

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/rowtext"
)

// buoyRows is how many rows the files in testdata have. Others wrote them, from the same invented rows: with run lengths of
// both versions, dictionaries and none, every codec, one stripe and several, and with and without Bloom filters.
const buoyRows = 400

// buoyRow is what a row of these files holds, as JSON lines have it.
func buoyRow(i int) string {
	part := func(there bool, text string, values ...any) string {
		if !there {
			return "null"
		}
		return fmt.Sprintf(text, values...)
	}
	number := func(v float64) string {
		text, _ := json.Marshal(v)
		return string(text)
	}
	var marks []string
	for k := range i % 4 {
		marks = append(marks, fmt.Sprint(i+k))
	}
	at := time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(i*37)*time.Second + time.Duration(i%4)*250*time.Millisecond)
	fields := []string{
		fmt.Sprintf(`"id":%d`, i*1000003-600000000),
		fmt.Sprintf(`"small":%d`, i%5),
		`"depth":` + part(i%7 != 3, "%s", number(float64(i)*0.25-30)),
		fmt.Sprintf(`"code":"OS-%04d"`, i%40),
		`"note":` + part(i%3 == 0, `"call %d"`, i*i),
		`"ok":` + part(i%11 != 0, "%t", i%2 == 0),
		fmt.Sprintf(`"day":"%s"`, time.Date(2031, 5, 1+i%60-30, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)),
		fmt.Sprintf(`"at":"%s"`, at.Format("2006-01-02T15:04:05.999999")),
		`"price":` + part(i%13 != 0, "%s", big.NewRat(int64(i*i*17-5000), 100).FloatString(2)),
		fmt.Sprintf(`"raw":"%s"`, encoded(byte(i), 255)),
		`"marks":` + part(i%5 != 0, "[%s]", strings.Join(marks, ",")),
		`"pos":` + part(i%9 != 0, `{"lat":%s,"grid":%s}`, number(57+float64(i)/1000), part(i%2 == 0, "%d", i)),
	}
	return "{" + strings.Join(fields, ",") + "}\n"
}

func encoded(b ...byte) string {
	text, _ := json.Marshal(b)
	return strings.Trim(string(text), `"`)
}

// lines reads a file and writes its rows as JSON lines.
func lines(t *testing.T, data []byte) (string, error) {
	t.Helper()
	f, err := Open(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return "", err
	}
	var out []byte
	err = f.Batches(context.Background(), func(b arrow.RecordBatch) error {
		out = rowtext.JSON(out, b)
		return nil
	})
	return string(out), err
}

func TestFilesOfOthers(t *testing.T) {
	paths, err := filepath.Glob("testdata/v*.orc")
	if err != nil || len(paths) < 5 {
		t.Fatalf("%v, %v", paths, err)
	}
	var want strings.Builder
	for i := range buoyRows {
		want.WriteString(buoyRow(i))
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		got, err := lines(t, data)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		if got != want.String() {
			for i, line := range strings.SplitAfter(got, "\n") {
				if line != buoyRow(i) {
					t.Errorf("%s, row %d: %s, want %s", path, i, line, buoyRow(i))
					break
				}
			}
		}
		f, err := Open(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			t.Fatal(err)
		}
		l, err := f.Layout()
		if err != nil {
			t.Fatal(err)
		}
		rows := int64(0)
		for _, s := range l.Stripes {
			rows += s.Rows
		}
		id := l.Columns[0]
		if rows != buoyRows || f.Rows() != buoyRows || id.Values != buoyRows || id.Smallest != "-600000000" ||
			id.Largest != "-200998803" {
			t.Errorf("%s: %d rows in stripes, %+v", path, rows, id)
		}
		codec, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(path), ".orc")[len("v11-"):], "-")
		if codec == "zlib" {
			codec = "gzip"
		}
		if l.Codec != codec || !strings.HasPrefix(l.Version, "0.1") {
			t.Errorf("%s: %s, version %s", path, l.Codec, l.Version)
		}
	}
}

// Timestamps are those that clocks showed where they were written, summer time included; instants are the same wherever.
func TestZonesOfOthers(t *testing.T) {
	for name, zone := range map[string]string{"zone-athens": "Europe/Athens", "zone-utc": "UTC"} {
		data, err := os.ReadFile(filepath.Join("testdata", name+".orc"))
		if err != nil {
			t.Fatal(err)
		}
		got, err := lines(t, data)
		if err != nil {
			t.Fatal(err)
		}
		place, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		rows := strings.Split(strings.TrimSpace(got), "\n")
		if len(rows) != 200 {
			t.Fatalf("%d rows", len(rows))
		}
		for i, row := range rows {
			at := time.Date(1968, 1, 1+i*137, 0, 0, i*3671, 0, time.UTC)
			if i > 30 {
				at = at.Add(time.Duration(i%5) * time.Millisecond)
			}
			const clock = "2006-01-02T15:04:05.999999"
			if want := fmt.Sprintf(`{"n":%d,"at":"%s","instant":"%sZ"}`, i, at.In(place).Format(clock), at.Format(clock)); row != want {
				t.Fatalf("%s: %s, want %s", name, row, want)
			}
		}
	}
}

// A file that is cut, or in which a byte is another, is an error or other rows, and never a panic.
func TestDamagedFilesOfOthers(t *testing.T) {
	paths, err := filepath.Glob("testdata/v*.orc")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range paths {
		whole, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for at := 0; at < len(whole); at += 211 {
			if _, err := lines(t, whole[:at]); err == nil {
				t.Errorf("%s: the first %d bytes are read as a file", path, at)
			}
			for _, flip := range []byte{0x01, 0x80, 0xff} {
				damaged := bytes.Clone(whole)
				damaged[at] ^= flip
				got, err := lines(t, damaged)
				if n := strings.Count(got, "\n"); err == nil && n != buoyRows {
					// The number of rows stands in the footer, which may be what was changed.
					t.Logf("%s: %d rows after a change at %d", path, n, at)
				}
			}
		}
	}
}
