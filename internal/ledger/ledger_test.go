package ledger

import (
	"fmt"
	"reflect"
	"testing"
	"time"

	"trevak/internal/storage"
)

func entry(i int) Entry {
	at := time.Date(2031, 5, 1, 0, 0, i, 123000, time.UTC)
	return Entry{URI: fmt.Sprintf("/in/%d.csv", i), Size: int64(i), Modified: at, Version: "v", Hash: fmt.Sprint("hash", i), Records: 10, Rows: 8,
		Quarantined: 1, Filtered: 1, Load: "load", At: at.Add(time.Hour)}
}

func TestSegmentsReadBack(t *testing.T) {
	s := storage.NewMemory()
	var first, second, want []Entry
	for i := range 1000 {
		first = append(first, entry(i))
	}
	second = append(second, entry(5000), entry(5001))
	older, err := Write(t.Context(), s, "memory://t/metadata", "a", first, nil)
	if err != nil {
		t.Fatal(err)
	}
	name, err := Write(t.Context(), s, "memory://t/metadata", "b", second, []string{older})
	if err != nil || name != "ledger-1002-b.parquet" {
		t.Fatal(name, err)
	}
	want = append(append(want, entry(5000), entry(5001)), first...)
	var got []Entry
	if err := Read(t.Context(), s, "memory://t/metadata", name, func(e Entry) error { got = append(got, e); return nil }); err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%d entries, want %d; the first is %+v", len(got), len(want), got[0])
	}
}

// TestSegmentsStayFew takes many small loads: the segments stay few, no entry is lost, and none is written anew too often.
func TestSegmentsStayFew(t *testing.T) {
	var segments []string
	written, total := 0, 0
	for load := range 5000 {
		entries := 1 + load%3
		n := Merging(segments, entries)
		count := entries
		for _, name := range segments[:n] {
			count += Count(name)
		}
		written, total = written+count, total+entries
		segments = append([]string{nameOf(count, fmt.Sprint(load))}, segments[n:]...)
		if len(segments) > 14 {
			t.Fatalf("%d segments after %d loads", len(segments), load+1)
		}
	}
	all := 0
	for _, name := range segments {
		all += Count(name)
	}
	if all != total || written > 20*total {
		t.Errorf("%d entries of %d, written %d times", all, total, written)
	}
}
