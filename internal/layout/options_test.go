package layout

import "testing"

func TestParseSize(t *testing.T) {
	for text, want := range map[string]int64{"256MB": 256e6, "64 MiB": 64 << 20, "1.5GB": 1.5e9, "100B": 100, "2kB": 2000,
		"1GiB": 1 << 30} {
		if got, err := ParseSize("--file-size", text); err != nil || got != want {
			t.Errorf("%s: %d, %v, want %d", text, got, err, want)
		}
	}
	for _, text := range []string{"", "big", "-1MB", "0B", "12", "MB", "1e99GB"} {
		if got, err := ParseSize("--file-size", text); err == nil {
			t.Errorf("%q is taken for %d bytes", text, got)
		}
	}
	var o Options
	if err := o.ParseRowGroup("1000"); err != nil || o.Columnar.RowGroupRows != 1000 {
		t.Errorf("%+v, %v", o.Columnar, err)
	}
	if err := o.ParseRowGroup("8MiB"); err != nil || o.Columnar.RowGroupBytes != 8<<20 {
		t.Errorf("%+v, %v", o.Columnar, err)
	}
}
