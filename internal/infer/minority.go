package infer

import (
	"trevak/internal/schema"
	"trevak/internal/wording"
)

// minorityNote tells of few values that keep a column from being what most of it is.
func minorityNote(n *schema.Node) string {
	// Words that often stand for no value are on neither side.
	seen := n.Seen &^ schema.ClassToken
	values := n.Evidence.Values() - n.Counts[schema.ClassToken.Index()]
	var most, others schema.Class
	for i := 1; i < schema.Classes; i++ {
		if c := schema.Class(1 << i); seen&c != 0 {
			if most == 0 || n.Counts[i] > n.Counts[most.Index()] {
				others |= most
				most = c
			} else {
				others |= c
			}
		}
	}
	group := most
	for _, g := range []schema.Class{schema.Numeric, schema.ClassDate | schema.ClassTimestamp,
		schema.ClassDayFirst | schema.ClassDayOrMonth} {
		if most&g != 0 {
			group, others = g, others&^g
		}
	}
	var count int64
	for i := 1; i < schema.Classes; i++ {
		if others&(1<<i) != 0 {
			count += n.Counts[i]
		}
	}
	if most == schema.ClassText || count == 0 || 2*count >= values {
		return ""
	}
	return wording.English.Sprintf("%d of %d are not %s", count, values, groupNames[group])
}

// groupNames are the words for what most values of a column are.
var groupNames = map[schema.Class]string{schema.Numeric: "numbers", schema.ClassDate | schema.ClassTimestamp: "dates",
	schema.ClassDayFirst | schema.ClassDayOrMonth: "dates",
	schema.ClassBoolean:                           "booleans", schema.ClassTime: "times",
	schema.ClassTimestampTz: "timestamps with a zone",
	schema.ClassUUID:        "uuids",
	schema.ClassMonthFirst:  "month-first dates", schema.ClassYearFirst: "dates", schema.ClassYesNo: "yes or no",
	schema.ClassLetter: "t or f",
	schema.ClassObject: "objects", schema.ClassArray: "arrays", schema.ClassToken: "null tokens"}

// Against lists the first values that stand against the majority of a column, with their places.
func (i *Inference) Against(n *schema.Node) []schema.Instance {
	if minorityNote(n) == "" {
		return nil
	}
	var out []schema.Instance
	most := 0
	for c := 1; c < schema.Classes; c++ {
		if schema.Class(1<<c) != schema.ClassToken && (n.Counts[c] > n.Counts[most] || most == 0) {
			most = c
		}
	}
	for c := 1; c < schema.Classes; c++ {
		if class := schema.Class(1 << c); c != most && class != schema.ClassToken &&
			!(class&schema.Numeric != 0 && schema.Class(1<<most)&schema.Numeric != 0) {
			out = append(out, n.Instances(class)...)
		}
	}
	return out
}
