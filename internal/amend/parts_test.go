package amend

import (
	"math/rand"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/expr"
	"trevak/internal/rowhash"
	"trevak/internal/schema"
)

// numbers is a batch of one column of whole numbers.
func numbers(list ...int64) arrow.RecordBatch {
	b := array.NewInt64Builder(memory.DefaultAllocator)
	b.AppendValues(list, nil)
	return array.NewRecordBatch(arrow.NewSchema([]arrow.Field{{Name: "id", Type: arrow.PrimitiveTypes.Int64}}, nil), []arrow.Array{b.NewArray()},
		int64(len(list)))
}

// TestWaitingRowsGoToTheDisk has batches and records come back as they were, whether memory has room for all of them, some or none.
func TestWaitingRowsGoToTheDisk(t *testing.T) {
	for _, room := range []int64{0, 100, 1 << 20} {
		s, l := spool{most: room, dir: t.TempDir()}, log{most: int(room / 20), dir: t.TempDir()}
		var want []int64
		for n := range int64(9) {
			b := numbers(n, n*n, -n)
			if err := s.add(t.Context(), b); err != nil {
				t.Fatal(err)
			}
			var records []record
			for i, k := range rowhash.Keys(b, []int{0}, nil) {
				r := record{key: k, newest: uint64(n), content: uint64(i), mark: i == 1}
				r.prints[3] = byte(n)
				records = append(records, r)
			}
			if err := l.add(records); err != nil {
				t.Fatal(err)
			}
			want = append(want, n, n*n, -n)
		}
		var got []int64
		if err := s.each(func(b arrow.RecordBatch) error {
			got = append(got, b.Column(0).(*array.Int64).Int64Values()...)
			return nil
		}); err != nil || !slices.Equal(got, want) {
			t.Errorf("with room for %d bytes: %v, %v", room, got, err)
		}
		keys := rowhash.Keys(numbers(want...), []int{0}, nil)
		for range 2 {
			seen := 0
			if err := l.each(func(n int64, r *record) {
				if r.key != keys[n] || r.newest != uint64(n/3) || r.content != uint64(n%3) || r.mark != (n%3 == 1) || r.prints[3] != byte(n/3) {
					t.Errorf("record %d with room for %d bytes: %+v", n, room, r)
				}
				seen++
			}); err != nil || seen != len(want) {
				t.Errorf("%d records, %v", seen, err)
			}
		}
		s.close()
		l.close()
	}
}

// TestKeysInParts looks for keys some at a time, and finds each in one part, with the last row that has it.
func TestKeysInParts(t *testing.T) {
	u := &Upsert{newest: -1, most: 50, log: log{most: 1 << 20}}
	r := rand.New(rand.NewSource(1))
	last := map[int64]int64{}
	var list []int64
	for n := range int64(900) {
		id := int64(r.Intn(400))
		last[id] = n
		list = append(list, id)
	}
	hashes := rowhash.Keys(numbers(list...), []int{0}, nil)
	records := make([]record, len(list))
	for i, k := range hashes {
		records[i].key = k
	}
	if err := u.log.add(records); err != nil {
		t.Fatal(err)
	}
	u.outcomes = make([]outcome, len(list))
	const parts = 16
	found := 0
	for part := range uint64(parts) {
		k, err := u.gather(part, parts)
		if err != nil {
			t.Fatal(err)
		}
		for id, row := range last {
			if e := k.find(hashes[row]); e != nil {
				if found++; e.row != row {
					t.Errorf("key %d is of row %d, not %d", id, e.row, row)
				}
			}
		}
		at, numbers := k.among(hashes, nil, nil)
		for i, place := range at {
			if e := &k.entries[numbers[i]]; e.key != hashes[place] {
				t.Errorf("row %d is taken for another", place)
			}
		}
	}
	rest := 0
	for _, o := range u.outcomes {
		if o == superseded {
			rest++
		}
	}
	if found != len(last) || rest != len(list)-len(last) {
		t.Errorf("%d of %d keys, %d rows whose key another has", found, len(last), rest)
	}
}

// TestRangesLoseNoKey holds what ranges say of spans of values against the values, kept by themselves and joined.
func TestRangesLoseNoKey(t *testing.T) {
	r := rand.New(rand.NewSource(2))
	for _, most := range []int{0, 100} {
		set := ranges{most: most}
		var all []int64
		for range 20 {
			var list []int64
			for range 50 {
				list = append(list, int64(r.Intn(1_000_000))-500_000)
			}
			set.add(numbers(list...).Column(0))
			all = append(all, list...)
		}
		between := set.between()
		long := func(v int64) expr.Value { return expr.Value{Kind: schema.Long, Long: v} }
		passed := 0
		for range 5000 {
			low := int64(r.Intn(1_200_000)) - 600_000
			high := low + int64(r.Intn(3000))
			is := slices.ContainsFunc(all, func(v int64) bool { return v >= low && v <= high })
			if says := between(long(low), long(high)); is && !says {
				t.Errorf("%d to %d holds a key", low, high)
			} else if !says {
				passed++
			}
		}
		if passed == 0 {
			t.Errorf("nothing was passed over with %d values by themselves", most)
		}
	}
}
