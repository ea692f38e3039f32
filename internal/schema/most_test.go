package schema

import "testing"

// TestMostValues settles columns of mixed values by what more than half of them are.
func TestMostValues(t *testing.T) {
	tests := []struct {
		name   string
		counts map[Class]int64
		want   Kind
		others int64
	}{
		{"numbers and words", map[Class]int64{ClassLong: 6, ClassDouble: 3, ClassText: 4}, Double, 4},
		{"no more than half", map[Class]int64{ClassLong: 5, ClassText: 5}, String, 0},
		{"mostly words", map[Class]int64{ClassLong: 4, ClassText: 5}, String, 0},
		{"nulls and tokens count for nothing", map[Class]int64{ClassNull: 50, ClassToken: 20, ClassDate: 3, ClassText: 2}, Date, 2},
		{"dates and timestamps together", map[Class]int64{ClassDate: 2, ClassTimestamp: 2, ClassLong: 3}, Timestamp, 3},
		{"objects", map[Class]int64{ClassObject: 3, ClassLong: 1, ClassToken: 1}, Struct, 2},
		{"numbers that do not go together", map[Class]int64{ClassWide: 3, ClassExponent: 3, ClassText: 1}, String, 0},
	}
	for _, test := range tests {
		n := &Node{}
		for class, count := range test.counts {
			n.Seen |= class
			n.Counts[class.Index()] = count
		}
		kind, others := Resolve(n.Seen), int64(0)
		if most, of := n.most(); most != nil {
			kind, others = Resolve(most.Seen), of
			if n.Seen == most.Seen || n.Counts == most.Counts {
				t.Errorf("%s: the column itself was changed", test.name)
			}
		}
		if kind != test.want || others != test.others {
			t.Errorf("%s: %s and %d others, want %s and %d", test.name, kind, others, test.want, test.others)
		}
	}
}
