package infer

import (
	"fmt"
	"math"

	"trevak/internal/layout"
	"trevak/internal/locate"
	"trevak/internal/schema"
)

// A partitioning is warned of when it would lead to more than manyPartitions with files below smallFile bytes. parquetShare is
// about what is left of text as Parquet, and unpackedTimes how much more a packed file holds than it takes.
const (
	manyPartitions = 100
	smallFile      = 1 << 20
	parquetShare   = 0.2
	unpackedTimes  = 5
)

// coarser are the transforms that lead to fewer partitions.
var coarser = map[string]string{"hour": "day", "day": "month", "month": "year"}

// Foresee warns before rows are written to very many small files, as far as the evidence tells; it returns nothing where there
// is no reason to.
func (i *Inference) Foresee(spec layout.Spec) string {
	var text int64
	for _, in := range i.Source.Inputs {
		if in.Rules.Compression == locate.Plain {
			text += in.Size
		} else {
			text += unpackedTimes * in.Size
		}
	}
	scale := max(1, float64(text)/float64(max(1, i.Observed.Bytes)))
	partitions, worst, most := 1.0, layout.Transform{}, 1.0
	for _, t := range spec {
		n := i.foreseen(t, scale)
		if partitions *= n; n > most {
			worst, most = t, n
		}
	}
	partitions = min(partitions, scale*float64(i.Records))
	each := float64(text) * parquetShare / partitions
	if partitions <= manyPartitions || each >= smallFile || worst.Column == "" {
		return ""
	}
	return fmt.Sprintf("about %.0f partitions with files of about %.0f kB each are to come, which are slow to read; %s would lead to fewer",
		partitions, math.Ceil(each/1000), fewer(worst))
}

// fewer proposes a transform that leads to fewer partitions.
func fewer(t layout.Transform) string {
	if name, ok := coarser[t.Name]; ok {
		t.Name = name
	} else {
		t.Name, t.Width = "bucket", 16
	}
	return "--partition '" + t.String() + "'"
}

// foreseen estimates how many values a transform has in the whole source, of which scale times as much is there as was looked at.
func (i *Inference) foreseen(t layout.Transform, scale float64) float64 {
	if t.Name == "bucket" {
		return float64(t.Width)
	}
	count := 1.0
	i.Walk(func(path string, f *schema.Field, n *schema.Node, _ int) {
		if path != t.Column {
			return
		}
		distinct, _ := n.Distinct.Estimate()
		days, _ := n.Days.Estimate()
		low, high := n.Range(f.Type.Kind, f.Notation.Nulls)
		switch t.Name {
		case "year":
			count = math.Ceil(float64(monthsBetween(low, high)) / 12)
		case "month":
			count = float64(monthsBetween(low, high))
		case "day":
			count = float64(days)
		case "hour":
			count = min(float64(days)*24, float64(distinct))
		default:
			count = float64(distinct)
			if 2*distinct > n.Evidence.Values() {
				// Nearly every value is new, and so will others be.
				count *= scale
			}
		}
	})
	return max(1, count)
}
