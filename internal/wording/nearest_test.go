package wording

import (
	"strings"
	"testing"
)

func TestNearest(t *testing.T) {
	names := []string{"sea_area", "observed_at", "depth_m", "battery"}
	for name, want := range map[string]string{"sea_aera": "sea_area", "depth": "depth_m", "BATERY": "battery", "zzz": "", "a": "sea_area,observed_at,battery"} {
		if got := strings.Join(Nearest(name, names), ","); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}

func TestChoose(t *testing.T) {
	words := []string{"grow", "hold", "stop"}
	for word, want := range map[string]string{
		"growing": "use grow, hold or stop",
		"gro":     "the nearest name is grow; use grow, hold or stop",
		"STOP":    "the nearest name is stop; use grow, hold or stop",
		"":        "use grow, hold or stop",
	} {
		if got := Choose(word, words); got != want {
			t.Errorf("%q: %s, want %s", word, got, want)
		}
	}
	if got := Choose("ad", []string{"pad", "stop"}); got != "use pad or stop" {
		t.Error(got)
	}
}
