package scan

import "testing"

func TestChoose(t *testing.T) {
	if got := Choose(3, 10); len(got) != 3 || got[2] != 2 {
		t.Errorf("%v", got)
	}
	if got := Choose(1000, 5); len(got) != 5 || got[0] != 0 || got[4] != 999 {
		t.Errorf("%v", got)
	}
}
