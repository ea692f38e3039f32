package write

import (
	"errors"

	"trevak/internal/fault"
	"trevak/internal/mask"
	"trevak/internal/profile"
	"trevak/internal/schema"
)

// Masked is a report and an error without the values of columns that are not told.
func Masked(m mask.Mask, r *Report, err error) (*Report, error) {
	if !m.Any() {
		return r, err
	}
	if r != nil {
		r.mask(m)
	}
	return r, maskedError(m, err)
}

func maskedError(m mask.Mask, err error) error {
	var refusal *Refusal
	if errors.As(err, &refusal) {
		hidden := *refusal
		if first, ok := m.Error(refusal.First).(*fault.Error); ok {
			hidden.First = first
		}
		hidden.Groups = maskedGroups(m, refusal.Groups)
		return &hidden
	}
	var drift *DriftError
	if errors.As(err, &drift) {
		hidden := *drift
		hidden.Differences = maskedDrift(m, drift.Differences)
		return &hidden
	}
	return m.Error(err)
}

func maskedGroups(m mask.Mask, list []ReasonGroup) []ReasonGroup {
	out := make([]ReasonGroup, len(list))
	for i, g := range list {
		g.Message = m.Text(g.Message)
		out[i] = g
	}
	return out
}

func maskedDrift(m mask.Mask, list []schema.Difference) []schema.Difference {
	out := make([]schema.Difference, len(list))
	for i, d := range list {
		if d.Value != "" && (m.Hides(d.Column) || d.From != "" && m.Hides(d.From)) {
			d.Value = mask.Shown
		}
		out[i] = d
	}
	return out
}

// mask takes values out of a report.
func (r *Report) mask(m mask.Mask) {
	r.Drift, r.Reasons = maskedDrift(m, r.Drift), maskedGroups(m, r.Reasons)
	for i := range r.Checks {
		c := &r.Checks[i]
		for j := range c.Examples {
			c.Examples[j].Values = mask.Shown
		}
	}
	for i := range r.LinesAbove {
		r.LinesAbove[i].First = mask.Shown
	}
	for i := range r.Unsure {
		r.Unsure[i].Why = m.Text(r.Unsure[i].Why)
	}
	r.Profile = profile.Masked(m, r.Profile)
	for _, part := range r.Split {
		part.mask(m)
	}
}
