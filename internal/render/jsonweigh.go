package render

import (
	"trevak/internal/columnar"
	"trevak/internal/weigh"
)

type trialJSON struct {
	Encoding     null[string] `json:"encoding"`
	Codec        string       `json:"codec"`
	SizeBytes    int64        `json:"size_bytes"`
	WriteSeconds float64      `json:"write_seconds"`
	ReadSeconds  float64      `json:"read_seconds"`
}

func trialOf(t columnar.Trial) trialJSON {
	return trialJSON{orNull(t.Encoding), string(t.Codec), t.Bytes, t.WriteSeconds, t.ReadSeconds}
}

func trialsOf(list []columnar.Trial) []trialJSON {
	out := []trialJSON{}
	for _, t := range list {
		out = append(out, trialOf(t))
	}
	return out
}

type weighedJSON struct {
	Path       string      `json:"path"`
	Type       string      `json:"type"`
	PlainBytes int64       `json:"plain_bytes"`
	Best       trialJSON   `json:"best"`
	Trials     []trialJSON `json:"trials"`
}

type layoutJSON struct {
	Flag         string       `json:"flag"`
	DataFiles    int          `json:"data_files"`
	Partitions   int          `json:"partitions"`
	SizeBytes    int64        `json:"size_bytes"`
	Filter       null[string] `json:"filter"`
	ScannedBytes int64        `json:"scanned_bytes"`
	UnlaidBytes  int64        `json:"unlaid_scanned_bytes"`
}

type readingJSON struct {
	What            string  `json:"what"`
	RawBytes        int64   `json:"raw_bytes"`
	RawSeconds      float64 `json:"raw_seconds"`
	ColumnarBytes   int64   `json:"columnar_bytes"`
	ColumnarSeconds float64 `json:"columnar_seconds"`
}

// WeighingJSON writes for programs what trials showed.
func WeighingJSON(s Screen, w *weigh.Weighing) error {
	out := struct {
		Table      null[string]  `json:"table"`
		Objects    []objectJSON  `json:"objects"`
		Favor      string        `json:"favor"`
		Rows       int64         `json:"rows"`
		RawBytes   int64         `json:"raw_bytes"`
		PlainBytes int64         `json:"plain_bytes"`
		Whole      []trialJSON   `json:"all_columns"`
		Steady     bool          `json:"times_steady"`
		Columns    []weighedJSON `json:"columns"`
		Layouts    []layoutJSON  `json:"layouts"`
		Readings   []readingJSON `json:"readings"`
		Codec      string        `json:"codec"`
		SizeBytes  int64         `json:"size_bytes"`
		Why        string        `json:"why"`
	}{orNull(w.Table), objectsJSON(w.Objects), string(w.Favor),
		w.Rows, w.RawBytes, w.PlainBytes, trialsOf(w.Whole), w.Steady, []weighedJSON{}, []layoutJSON{},
		[]readingJSON{}, w.Codec, w.Bytes, w.Reason}
	for _, c := range w.Columns {
		out.Columns = append(out.Columns, weighedJSON{c.Path, c.Type, c.PlainBytes, trialOf(c.Best), trialsOf(c.Trials)})
	}
	for _, l := range w.Layouts {
		out.Layouts = append(out.Layouts, layoutJSON{l.Flag, l.Files, l.Partitions, l.Bytes, orNull(l.Filter), l.ScannedBytes, l.UnlaidBytes})
	}
	for _, r := range w.Readings {
		out.Readings = append(out.Readings, readingJSON{r.Columns, r.RawBytes, r.RawSeconds, r.ColumnarBytes,
			r.ColumnarSeconds})
	}
	return JSON(s, out)
}
