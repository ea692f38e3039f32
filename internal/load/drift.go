package load

import (
	"slices"

	"trevak/internal/fault"
)

// Drift says what becomes of differences between a batch and the table it is loaded into.
type Drift uint8

// Grow adds columns and widens types as the table format allows; Hold keeps the table's schema, and what it does not take goes
// to the column for misfits; Stop refuses the load.
const (
	Grow Drift = iota
	Hold
	Stop
)

var driftNames = [...]string{"grow", "hold", "stop"}

func (d Drift) String() string { return driftNames[d] }

// ParseDrift reads grow, hold or stop.
func ParseDrift(text string) (Drift, error) {
	if i := slices.Index(driftNames[:], text); i >= 0 {
		return Drift(i), nil
	}
	return 0, fault.Unknown("drift", text, driftNames[:]...)
}
