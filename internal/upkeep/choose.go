package upkeep

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/scan"
	"trevak/internal/table"
)

// OnlyIf says when the files of a partition are worth writing anew: where at least Files of them become fewer, or more than Deleted of
// the rows in a file, as a share, are deleted.
type OnlyIf struct {
	Files   int
	Deleted float64
}

// Pays is what is worth it where nobody says.
var Pays = OnlyIf{Files: 2, Deleted: 0.1}

var onlyIfTerm = regexp.MustCompile(`^\s*(files|deletes)\s*(>=|>)\s*([0-9.]+)\s*(%?)\s*$`)

// ParseOnlyIf reads a condition like "files >= 5 or deletes > 10%". What it does not speak of is not asked for.
func ParseOnlyIf(text string) (OnlyIf, error) {
	out := OnlyIf{Files: 1 << 30, Deleted: 2}
	wrong := fault.New(fault.Usage, "--only-if %q is no condition", text).
		Try("write it like 'files >= 5', 'deletes > 10%%', or both with or between them")
	for term := range strings.SplitSeq(text, " or ") {
		m := onlyIfTerm.FindStringSubmatch(term)
		if m == nil {
			return out, wrong
		}
		n, err := strconv.ParseFloat(m[3], 64)
		switch {
		case err != nil:
			return out, wrong
		case m[1] == "files" && m[4] == "" && n == float64(int(n)) && n < 1<<30:
			if out.Files = int(n); m[2] == ">" {
				out.Files++
			}
		case m[1] == "deletes" && m[4] == "%" && m[2] == ">":
			out.Deleted = n / 100
		default:
			return out, wrong
		}
	}
	return out, nil
}

func (o OnlyIf) String() string {
	var parts []string
	if o.Files < 1<<30 {
		parts = append(parts, fmt.Sprintf("files >= %d", o.Files))
	}
	if o.Deleted < 2 {
		parts = append(parts, fmt.Sprintf("deletes > %g%%", o.Deleted*100))
	}
	return strings.Join(parts, " or ")
}

// unit is files of a partition whose rows are written anew together.
type unit struct {
	partition string // in words
	tasks     []table.ReadTask
	bytes     int64
}

// chosen is what of a table is to be written anew.
type chosen struct {
	units []unit
	// deletes are the files of deletes, by URI, with the data files whose rows they delete; nil for one of which that is not known.
	deletes map[string]map[string]int64
	// idle is how many files of deletes delete nothing any more.
	idle int
	// former counts files of a former partitioning, which stay.
	former int
	all    shape
	taken  shape
}

// shape is how many files there are, and how large.
type shape struct {
	files, deletes int
	bytes, rows    int64
}

// smallShare is the share of the target size below which a file is small.
const smallShare = 0.75

// unitBytes bounds what is written anew together.
const unitBytes = 16 << 30

// choose finds the files that are worth writing anew: those that are small, whose rows are deleted, or that are not in the table's order.
func (c Compaction) choose(ctx context.Context, t *table.Table) (*chosen, error) {
	tasks, idle, err := t.PlanSlim(ctx)
	if err != nil {
		return nil, err
	}
	out := &chosen{deletes: map[string]map[string]int64{}, idle: len(idle)}
	for _, f := range idle {
		out.all.deletes, out.all.bytes = out.all.deletes+1, out.all.bytes+f.Bytes
	}
	byPartition := map[string][]table.ReadTask{}
	var order []string
	for _, task := range tasks {
		out.all.files++
		out.all.bytes, out.all.rows = out.all.bytes+task.Bytes, out.all.rows+task.Rows
		for _, d := range task.Deletes {
			if _, known := out.deletes[d.URI]; known {
				continue
			}
			out.all.deletes, out.all.bytes = out.all.deletes+1, out.all.bytes+d.Bytes
			if out.deletes[d.URI] = nil; len(d.Equal) == 0 {
				if out.deletes[d.URI], err = scan.DeletedByFile(ctx, t, d); err != nil {
					return nil, err
				}
			}
		}
		if !t.OfSpec(task.File) && !c.All {
			out.former++
			continue
		}
		key := task.Partition()
		if byPartition[key] == nil {
			order = append(order, key)
		}
		byPartition[key] = append(byPartition[key], task)
	}
	for _, key := range order {
		for _, u := range c.inPartition(t, byPartition[key], out.deletes) {
			u.partition = t.PartitionText(u.tasks[0].File)
			out.units = append(out.units, u)
			for _, task := range u.tasks {
				out.taken.files, out.taken.bytes = out.taken.files+1, out.taken.bytes+task.Bytes
				out.taken.rows += task.Rows
			}
		}
	}
	return out, nil
}

// inPartition chooses of the files of a partition.
func (c Compaction) inPartition(t *table.Table, tasks []table.ReadTask, deletes map[string]map[string]int64) []unit {
	must := make([]bool, len(tasks))
	var small, forced int
	var bytes int64
	for i, task := range tasks {
		must[i] = c.All || !t.Ordered(task.File) || deletedShare(task, deletes) > c.OnlyIf.Deleted
		switch {
		case must[i]:
			forced++
		case float64(task.Bytes) < smallShare*float64(c.Layout.FileBytes):
			small++
		default:
			continue
		}
		bytes += task.Bytes
	}
	then := int((bytes + c.Layout.FileBytes - 1) / max(1, c.Layout.FileBytes))
	together := small+forced >= c.OnlyIf.Files && then < small+forced
	if forced == 0 && !together {
		return nil
	}
	var out []unit
	for i, task := range tasks {
		isSmall := float64(task.Bytes) < smallShare*float64(c.Layout.FileBytes)
		if !must[i] && (!together || !isSmall) {
			continue
		}
		if len(out) == 0 || out[len(out)-1].bytes+task.Bytes > unitBytes {
			out = append(out, unit{})
		}
		last := &out[len(out)-1]
		last.tasks, last.bytes = append(last.tasks, task), last.bytes+task.Bytes
	}
	return out
}

// deletedShare is which share of the rows of a file is deleted; 1 where that is not known.
func deletedShare(task table.ReadTask, deletes map[string]map[string]int64) float64 {
	var n int64
	for _, d := range task.Deletes {
		if deletes[d.URI] == nil {
			return 1
		}
		n += deletes[d.URI][task.URI]
	}
	return float64(n) / float64(max(1, task.Rows))
}

// unneeded are the files of deletes that delete nothing any more once some data files are gone, of a table as it is.
func unneeded(tasks []table.ReadTask, deletes map[string]map[string]int64, removed map[string]bool) (out []table.File) {
	needed, files := map[string]bool{}, map[string]table.File{}
	for _, task := range tasks {
		for _, d := range task.Deletes {
			files[d.URI] = d.File
			by, known := deletes[d.URI]
			if !removed[task.URI] && (!known || by == nil || by[task.URI] > 0) {
				needed[d.URI] = true
			}
		}
	}
	for uri, f := range files {
		if !needed[uri] {
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b table.File) int { return strings.Compare(a.URI, b.URI) })
	return out
}
