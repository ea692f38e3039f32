package source

import (
	"fmt"
	"slices"

	"trevak/internal/fault"
	"trevak/internal/parse/json"
	"trevak/internal/sniff"
	"trevak/internal/wording"
)

// agreeOnRecords settles where the records are in JSON documents, over all of a source: at the place that most of its objects
// have. An object that has none there is refused, as its document would become a row among the records of the others. Where an
// object's place is not settled and no other object tells, it is asked for, unless nothing but a look is taken.
func (s *Source) agreeOnRecords(looking bool) error {
	place, holders := s.commonPlace()
	for i := range s.Inputs {
		in := &s.Inputs[i]
		if !in.Rules.Single {
			continue
		}
		if place != "" && in.Rules.Records.String() != place {
			if err := in.useCommon(place, holders); err != nil {
				return err
			}
		}
		if in.Rules.Question != nil && !looking {
			return Located(in.Rules.Question, in.Location)
		}
	}
	return nil
}

// commonPlace returns the place within documents at which most objects have their records, and how many do; it is empty where
// all of them are records themselves, or arrays of them.
func (s *Source) commonPlace() (place string, holders int) {
	counts := map[string]int{}
	for _, in := range s.Inputs {
		if in.Rules.Single && in.Rules.Question == nil && len(in.Rules.Records) > 0 && !isTop(in.Rules.Records) {
			counts[in.Rules.Records.String()]++
		}
	}
	for p, n := range counts {
		if n > holders || n == holders && p < place {
			place, holders = p, n
		}
	}
	return place, holders
}

// isTop reports whether records are the elements of an array that is the document.
func isTop(p json.Path) bool { return p.String() == json.Elements.String() }

// useCommon reads an object's records at the place where others have them, if it has that too.
func (in *Input) useCommon(place string, holders int) error {
	path, err := json.ParsePath(place)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(in.Rules.Places, func(p *json.Place) bool { return p.Path.String() == place })
	if at < 0 {
		has := "is a single record"
		if len(in.Rules.Records) > 0 {
			has = "has its records at " + in.Rules.Records.String()
		}
		return fault.New(fault.Input, "%s, while %s of the source %s them at %s", has,
			wording.Count(int64(holders), true, "object", "objects"), oneHas(holders), place).In(in.Location).
			Try("read it by itself; or name a place that all of them have with --records")
	}
	rules := &in.Rules
	rules.Format, rules.Records, rules.Keys, rules.Question = sniff.JSON, path, rules.Places[at].Keys, nil
	for i := range rules.Reasons {
		if r := &rules.Reasons[i]; r.Rule == "records" {
			*r = sniff.Reason{Rule: "records", Value: place,
				Why: fmt.Sprintf("as in %s of the source", wording.Count(int64(holders), true, "object", "objects"))}
		}
	}
	if !slices.ContainsFunc(rules.Reasons, func(r sniff.Reason) bool { return r.Rule == "records" }) {
		rules.Reasons = append(rules.Reasons, sniff.Reason{Rule: "records", Value: place,
			Why: fmt.Sprintf("as in %s of the source", wording.Count(int64(holders), true, "object", "objects"))})
	}
	return nil
}

func oneHas(n int) string {
	if n == 1 {
		return "has"
	}
	return "have"
}
