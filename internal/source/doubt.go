package source

import (
	"slices"

	"trevak/internal/fault"
	"trevak/internal/sniff"
	"trevak/internal/wording"
)

// Doubt is a reading rule that could be another.
type Doubt struct {
	// Location is the first of so many objects that it holds for.
	Location string
	Objects  int
	Rule     string
	Value    string
	Why      string
	// Instead is the flag that gives the other reading.
	Instead string
}

// Unsure says what becomes of a run with doubts: the zero value goes on with those that are small, and stops for others.
type Unsure uint8

// UnsureGo goes on whatever the doubts, UnsureStop stops for any.
const (
	UnsureUsual Unsure = iota
	UnsureGo
	UnsureStop
)

// ParseUnsure reads go or stop.
func ParseUnsure(text string) (Unsure, error) {
	switch text {
	case "":
		return UnsureUsual, nil
	case "go":
		return UnsureGo, nil
	case "stop":
		return UnsureStop, nil
	}
	return 0, fault.New(fault.Usage, "--unsure %s is not known",
		text).Try("use go or stop; without it a run goes on where one reading is likelier, and stops where none is")
}

// Doubts lists the reading rules that could be others, alike ones of several objects once.
func (s *Source) Doubts() []Doubt {
	out := []Doubt{}
	for _, in := range s.Inputs {
		for _, r := range in.Rules.Reasons {
			if !r.Unsure {
				continue
			}
			at := slices.IndexFunc(out, func(d Doubt) bool { return d.Rule == r.Rule && d.Value == r.Value })
			if at < 0 {
				at = len(out)
				out = append(out, Doubt{Location: in.Location, Rule: r.Rule, Value: r.Value, Why: r.Why, Instead: r.Instead})
			}
			out[at].Objects++
		}
	}
	return out
}

// settleDoubts stops for doubts, as is stated.
func (s *Source) settleDoubts(unsure Unsure) error {
	for _, in := range s.Inputs {
		for _, r := range in.Rules.Reasons {
			if stops := r.Unsure && unsure == UnsureStop || r.Asked && unsure == UnsureUsual; stops {
				return in.doubtful(r)
			}
		}
	}
	return nil
}

// doubtful asks for a rule, with both readings and what gives each.
func (in Input) doubtful(r sniff.Reason) error {
	if r.Rule != "header" {
		return fault.New(fault.Usage, "could be read in another way: %s %s, as %s", r.Rule, r.Value, r.Why).In(in.Location).
			Try("%s; --unsure go reads it as it is", r.Instead)
	}
	var shown []string
	for _, text := range in.Rules.First[:min(3, len(in.Rules.First))] {
		shown = append(shown, fault.Quote(text))
	}
	return fault.New(fault.Usage, "may or may not begin with a header: %s could be names, or values like those below",
		wording.Some(shown)).In(in.Location).
		Try("say --header or --no-header; --unsure go takes it for %s", map[string]string{"no": "values", "yes": "names"}[r.Value])
}

// headersOfSiblings settles unsure headers by the other objects of the source: a first record that several share holds names,
// and one that differs in all of them holds none.
func (s *Source) headersOfSiblings() {
	firsts := map[string]int{}
	key := func(r *sniff.Rules) string {
		var b []byte
		for _, text := range r.First {
			b = append(append(b, text...), 0)
		}
		return string(b)
	}
	for i := range s.Inputs {
		if s.Inputs[i].Rules.Format == sniff.Delimited {
			firsts[key(&s.Inputs[i].Rules)]++
		}
	}
	for i := range s.Inputs {
		rules := &s.Inputs[i].Rules
		header := rules.Reason("header")
		if header == nil || !header.Unsure {
			continue
		}
		switch n := firsts[key(rules)]; {
		case n > 1 && n == len(s.Inputs):
			rules.UseHeader("all objects begin with the same record")
		case n == 1 && len(s.Inputs) > 2 && len(firsts) == len(s.Inputs) && header.Value != "no":
			rules.DropHeader("no other object begins with the same record")
		}
	}
}

// Above is lines that stand above the table of an object.
type Above struct {
	Location string
	Lines    int
	First    string
}

// LinesAbove lists what stands above tables.
func (s *Source) LinesAbove() []Above {
	out := []Above{}
	for _, in := range s.Inputs {
		if in.Rules.Skip > 0 {
			out = append(out, Above{in.Location, in.Rules.Skip, in.Rules.Title})
		}
	}
	return out
}
