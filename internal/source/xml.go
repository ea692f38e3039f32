package source

import (
	"context"
	"fmt"

	"trevak/internal/fault"
	"trevak/internal/parse/xml"
	"trevak/internal/sniff"
	"trevak/internal/wording"
)

// surveyXML reads XML documents to find their records, at the place that most of them have, and what must be known of these:
// what is a list, or an object, in one of them is so in all.
func (s *Source) surveyXML(ctx context.Context, r Reading) error {
	options := xml.Options{Records: r.Stated.Records, Prefixes: r.Prefixes, MixedText: r.MixedText}
	surveys := make([]*xml.Survey, len(s.Inputs))
	choices := make([]xml.Choice, len(s.Inputs))
	holders := map[string]int{}
	for i := range s.Inputs {
		in := &s.Inputs[i]
		if in.Rules.Format != sniff.XML {
			continue
		}
		var err error
		if surveys[i], err = in.surveyXML(ctx, options); err == nil {
			choices[i], err = surveys[i].Choose()
		}
		if err != nil {
			return Located(err, in.Location)
		}
		if choices[i].Question == nil {
			holders[choices[i].Records[0]]++
		}
	}
	place := ""
	for p, n := range holders {
		if n > holders[place] || n == holders[place] && (place == "" || p < place) {
			place = p
		}
	}
	var shape *xml.Shape
	for i := range s.Inputs {
		if surveys[i] == nil {
			continue
		}
		if err := s.Inputs[i].agreeOnXML(surveys[i], &choices[i], place, holders[place], r); err != nil {
			return err
		}
		own := surveys[i].Shape(choices[i].Records)
		if shape == nil {
			shape = &own
		}
		shape.Merge(own)
		s.Inputs[i].Shape = own
		s.Inputs[i].noteMixed(own)
	}
	for i := range s.Inputs {
		if surveys[i] != nil {
			in := &s.Inputs[i]
			in.Shape.Lists, in.Shape.Objects, in.Shape.Mixed, in.Shape.Own = shape.Lists, shape.Objects, shape.Mixed, shape.Own
		}
	}
	return nil
}

func (in *Input) surveyXML(ctx context.Context, options xml.Options) (*xml.Survey, error) {
	stream, err := in.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer stream.Close()
	text, err := sniff.Decode(stream, in.Rules.Encoding)
	if err != nil {
		return nil, err
	}
	return xml.Look(text, options)
}

// agreeOnXML reads a document's records at the place where others have them, if it has that too, and notes the rule.
func (in *Input) agreeOnXML(survey *xml.Survey, choice *xml.Choice, place string, holders int, r Reading) error {
	if r.Stated.Records == "" && place != "" && (choice.Question != nil || choice.Records[0] != place) {
		if !survey.Has(place) {
			return fault.New(fault.Input, "has its records at /%s, while %s of the source %s them at /%s", choice.Records[0],
				wording.Count(int64(holders), true, "object", "objects"), oneHas(holders),
				place).In(in.Location).Try("read it by itself; or name an element that all of them have with --records")
		}
		*choice = xml.Choice{Records: []string{place},
			Why: fmt.Sprintf("as in %s of the source", wording.Count(int64(holders), true, "object", "objects"))}
	}
	if choice.Question != nil && !r.Looking {
		return Located(choice.Question, in.Location)
	}
	shape := xml.Shape{Records: choice.Records}
	in.Rules.Reasons = append(in.Rules.Reasons, sniff.Reason{Rule: "records", Value: shape.String(), Why: choice.Why,
		Unsure:  choice.Unsure || choice.Question != nil,
		Instead: "--records / makes one record of the document"})
	return nil
}

// noteMixed notes what becomes of elements in which text stands among elements: apart, the order of the two is lost.
func (in *Input) noteMixed(shape xml.Shape) {
	mixed := shape.MixedElements()
	if len(mixed) == 0 {
		return
	}
	reason := sniff.Reason{Rule: "mixed content", Value: "apart", Why: "text and elements stand among each other in " +
		wording.Some(mixed) + ", and their order is lost", Unsure: true,
		Instead: "--mixed-content text keeps them as text with their markup"}
	if shape.MixedText {
		reason = sniff.Reason{Rule: "mixed content", Value: "text", Why: "stated; text and elements stand among each other in " +
			wording.Some(mixed)}
	}
	in.Rules.Reasons = append(in.Rules.Reasons, reason)
}
