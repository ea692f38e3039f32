package render

import (
	"fmt"

	"trevak/internal/columnar"
	"trevak/internal/weigh"
)

// Weighing writes what trials showed.
func Weighing(s Screen, w *weigh.Weighing) {
	s.Printf("%s  tried on %s", s.Bold(w.Source), Count(int(w.Rows), "row", "rows"))
	if w.RawBytes > 0 {
		s.Printf(" of %s as text", Size(w.RawBytes))
	}
	s.Printf("\n\n")
	for i, t := range weighingTables(w) {
		if len(t.Rows) == 0 {
			continue
		}
		if i > 0 {
			s.Printf("\n")
		}
		t.Write(s)
	}
	if !w.Steady {
		s.Printf("\n%s\n", Wrap("The times differed from one trial to the next; take them for rough ones.", s.Width))
	}
	s.Printf("\n%s\n", Wrap(weighingVerdict(w), s.Width))
}

// weighingVerdict is what trials speak for.
func weighingVerdict(w *weigh.Weighing) string {
	return fmt.Sprintf("Favoring %s: --codec '%s', %s. The sample takes %s.", w.Favor, w.Codec, w.Reason, Size(w.Bytes))
}

// weighingTables are the trials of codecs, of columns, of layouts, and what reading costs.
func weighingTables(w *weigh.Weighing) [4]Table {
	codecs := Table{Header: []string{"codec", "all columns", "of raw", "written at", "read at"},
		Right: []bool{false, true, true, true, true}, Keep: true}
	for _, t := range w.Whole {
		codecs.Rows = append(codecs.Rows, []string{string(t.Codec), Size(t.Bytes), share(t.Bytes, rawBytes(w)),
			rate(rawBytes(w), t.WriteSeconds), rate(rawBytes(w), t.ReadSeconds)})
	}
	columns := Table{Header: []string{"column", "type", "plain", "best", "of plain", "codec", "smallest encoding"},
		Right: []bool{false, false, true, true, true}, Keep: true}
	for _, c := range w.Columns {
		columns.Rows = append(columns.Rows, []string{c.Path, cut(c.Type, 32), Size(c.PlainBytes), Size(c.Best.Bytes),
			share(c.Best.Bytes, c.PlainBytes), string(c.Best.Codec), smallest(c.Trials)})
	}
	layouts := Table{Header: []string{"layout", "files", "partitions", "size", "filter", "it reads", "as it comes"},
		Right: []bool{false, true, true, true, false, true, true}, Keep: true}
	for _, l := range w.Layouts {
		scanned, unlaid := "", ""
		if l.Filter != "" {
			scanned, unlaid = Size(l.ScannedBytes), Size(l.UnlaidBytes)
		}
		layouts.Rows = append(layouts.Rows, []string{l.Flag, Number(int64(l.Files)), Number(int64(l.Partitions)), Size(l.Bytes),
			l.Filter, scanned, unlaid})
	}
	reading := Table{Header: []string{"reading", "raw text", "time", "columns", "time"}, Right: []bool{false, true, true, true, true},
		Keep: true}
	for _, r := range w.Readings {
		raw, seconds := "-", "-"
		if r.RawBytes > 0 {
			raw, seconds = Size(r.RawBytes), fmt.Sprintf("%.3f s", r.RawSeconds)
		}
		reading.Rows = append(reading.Rows, []string{r.Columns, raw, seconds, Size(r.ColumnarBytes),
			fmt.Sprintf("%.3f s", r.ColumnarSeconds)})
	}
	return [4]Table{codecs, columns, layouts, reading}
}

// rawBytes is the size that ratios and speeds are of: the text's, or for rows that were columns already that of their plain form.
func rawBytes(w *weigh.Weighing) int64 {
	if w.RawBytes > 0 {
		return w.RawBytes
	}
	return w.PlainBytes
}

// share writes a size as a part of another.
func share(n, of int64) string {
	if of == 0 {
		return "-"
	}
	return fmt.Sprintf("%.3f", float64(n)/float64(of))
}

func rate(n int64, seconds float64) string {
	return Size(int64(float64(n)/max(seconds, 1e-9))) + "/s"
}

// smallest names the encoding that takes the fewest bytes with zstd.
func smallest(trials []columnar.Trial) string {
	var best columnar.Trial
	for _, t := range trials {
		if t.Encoding != "" && t.Codec == "zstd:3" && (best.Encoding == "" || t.Bytes < best.Bytes) {
			best = t
		}
	}
	if best.Encoding == "" {
		return "-"
	}
	return best.Encoding
}
