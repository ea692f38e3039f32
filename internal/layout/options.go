package layout

import (
	"strconv"
	"strings"

	"trevak/internal/fault"
)

// units are what sizes may be stated in, in bytes.
var units = []struct {
	suffix string
	bytes  int64
}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}, {"KB", 1e3}, {"B", 1}}

// ParseSize reads a number of bytes with a unit: 256MB, 64 MiB.
func ParseSize(flag, text string) (int64, error) {
	text = strings.TrimSpace(text)
	for _, u := range units {
		number, ok := strings.CutSuffix(text, u.suffix)
		if !ok {
			continue
		}
		v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if err == nil && v*float64(u.bytes) >= 1 && v*float64(u.bytes) < 1<<62 {
			return int64(v * float64(u.bytes)), nil
		}
	}
	return 0, fault.New(fault.Usage, "%s %q is no size", flag, text).Try("write a number with a unit, like 256MB or 64MiB")
}

// ParseRowGroup reads what ends a row group: a size, or a number of rows.
func (o *Options) ParseRowGroup(text string) error {
	if rows, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64); err == nil {
		if rows < 1 {
			return fault.New(fault.Usage, "--row-group %s is no number of rows",
				text).Try("write a number of rows or a size, like 1000000 or 64MB")
		}
		o.Columnar.RowGroupRows = rows
		return nil
	}
	size, err := ParseSize("--row-group", text)
	o.Columnar.RowGroupBytes = size
	return err
}
