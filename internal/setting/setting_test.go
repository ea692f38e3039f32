package setting

import (
	"slices"
	"strings"
	"testing"

	"trevak/internal/storage"
)

// TestTableIsSound holds that keys and flags are there once, that what is usual is taken, and that what is set is what is got.
func TestTableIsSound(t *testing.T) {
	keys, flags := map[string]bool{}, map[string]bool{}
	for _, s := range Table {
		if s.Key != "" && keys[s.Key] || s.Flag != "" && flags[s.Flag] || s.Key == "" && s.Flag == "" || s.Meaning == "" {
			t.Errorf("%+v", s)
		}
		keys[s.Key], flags[s.Flag] = true, true
		values := map[Kind][]string{Text: {"word"}, YesNo: {"true"}, Number: {"7"}, List: {"a", "b"}, Many: {"a,b", "c"},
			Numbers: {"5,12"}}[s.Kind()]
		if s.Words != nil {
			values = s.Words[:1]
		}
		if s.Flag == "timeout" {
			values = []string{"30s"}
		}
		f := New()
		if err := s.Set(f, values); err != nil || !slices.Equal(s.Get(f), values) {
			t.Errorf("%s%s: %q, %v, want %q", s.Key, s.Flag, s.Get(f), err, values)
		}
		if s.Usual != "" {
			if err := s.Set(&Flow{}, []string{s.Usual}); err != nil {
				t.Errorf("%s%s is usually %q: %v", s.Key, s.Flag, s.Usual, err)
			}
		}
		if s.Kind() == Number && s.Set(f, []string{"many"}) == nil {
			t.Errorf("%s takes a word", s.Key)
		}
	}
	if s, ok := ByFlag("sort"); !ok || s.Key != "table.sort" {
		t.Errorf("%+v", s)
	}
	if _, ok := ByKey("no.such"); ok {
		t.Error("a key that there is not is found")
	}
}

// TestUsualFlowsAreTasks makes tasks of what is usual, and of what is wrong.
func TestUsualFlowsAreTasks(t *testing.T) {
	env := Env{Sources: []string{"in.csv"}, Store: storage.Disk{}, Form: true, Columns: true}
	task, err := New().Task(env)
	if err != nil || task.Limits.RecordBytes != 64<<20 || task.Stated.HeaderRows != nil || !task.Shape.Empty() ||
		task.Misfits.Percent != 50 {
		t.Errorf("%+v, %v", task, err)
	}
	for _, test := range []struct{ flag, value, want string }{
		{"escape", "slash", "--escape slash is not known"}, {"max-depth", "0", "count from 1 on"},
		{"type", "depth", "does not name a column and a type"},
		{"unsure", "maybe", "--unsure maybe is not known"}, {"nested", "flat", "--nested flat is not known"},
		{"unnest-index", "true", "are for --unnest"},
		{"tolerate", "some", "is no limit"}, {"widths", "5,x", "which is no width"}, {"quote", "ab", "is not one ASCII character"},
		{"mixed", "both", "--mixed both is not known"},
		{"partition-value", "x", "does not name a column and its value"}, {"decimal-mark", "dot", "is not known"},
		{"scan", "half", "--scan half is not known"},
	} {
		f := New()
		s, ok := ByFlag(test.flag)
		if !ok {
			t.Fatal(test.flag)
		}
		if err := s.Set(f, []string{test.value}); err != nil {
			t.Fatal(err)
		}
		if _, err := f.Task(env); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s %s: %v, want %q", test.flag, test.value, err, test.want)
		}
	}
	f := New()
	f.Header = true
	f.State("header")
	f.Sort, f.Drift, f.Into = "area", "hold", "ops.readings"
	if task, err = f.Task(env); err != nil || *task.Stated.HeaderRows != 1 || len(task.Particular) != 1 {
		t.Errorf("%+v, %v", task, err)
	}
	if l, err := f.LoadRequest(task, nil, false); err != nil || l.Sort != "area" || l.Drift.String() != "hold" ||
		l.Into.String() != "ops.readings" {
		t.Errorf("%+v, %v", l, err)
	}
	f.Into = ""
	if _, err := f.LoadRequest(task, nil, false); err == nil || !strings.Contains(err.Error(), "--into is missing") {
		t.Errorf("%v", err)
	}
}
