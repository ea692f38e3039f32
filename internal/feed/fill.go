package feed

import (
	"strings"

	"trevak/internal/fault"
	"trevak/internal/setting"
)

// Fill gives a flow what a feed says, but for settings that are passed over, and returns those that it gave.
func (f *Feed) Fill(flow *setting.Flow, pass func(setting.Setting) bool) (used []setting.Setting, err error) {
	for _, s := range setting.Table {
		values := f.Values[s.Key]
		if len(values) == 0 || pass(s) {
			continue
		}
		if s.Flag == "header-rows" && f.One(s.Key) == "0" {
			flow.NoHeader = true
		} else if err := s.Set(flow, values); err != nil {
			return nil, fault.New(fault.Usage, "the key %s: %s", s.Key, err)
		}
		used = append(used, s)
	}
	return used, nil
}

// Blame names the key of the feed, and its line, in an error about a flag that nobody stated. used are the settings that the feed gave.
func (f *Feed) Blame(err error, used []setting.Setting) error {
	e, ok := err.(*fault.Error)
	if !ok || e.Kind != fault.Usage {
		return err
	}
	for _, s := range used {
		if s.Flag == "" {
			continue
		}
		before, after, found := strings.Cut(e.Reason+" ", "--"+s.Flag)
		if found && after != "" && strings.ContainsAny(after[:1], " :=,") {
			e.Reason = strings.TrimSpace(before + "the key " + s.Key + after)
			if e.Object == "" {
				e.Object, e.Line = f.Place(s.Key)
			}
			return e
		}
	}
	return e
}
