package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"trevak/internal/profile"
)

// PageMark stands in the head of every page, by which one is known to be ours.
const PageMark = "trevak page"

// PageInfo is what a page tells of its own making.
type PageInfo struct {
	// Version is that of the program, At when the run was.
	Version string
	At      time.Time
}

// page is a page to hand on: one file that needs nothing else to be read.
type page struct {
	Generator, Title, Under string
	// Verdict is the outcome in a line, Bad that it is no good one.
	Verdict string
	Bad     bool
	Parts   []pagePart
	Footer  string
}

// pagePart is a part of a page. What it does not have is left out.
type pagePart struct {
	Heading string
	Numbers []pageNumber
	Notes   []string
	Table   *pageTable
	Cards   []pageCard
}

type pageNumber struct{ Name, Value string }

type pageTable struct {
	Header []pageCell
	Rows   [][]pageCell
}

// withoutEmpty leaves out columns without a text in any row.
func (t *pageTable) withoutEmpty() *pageTable {
	out := &pageTable{Rows: make([][]pageCell, len(t.Rows))}
	for c, h := range t.Header {
		if !slices.ContainsFunc(t.Rows, func(row []pageCell) bool { return row[c].Text != "" }) {
			continue
		}
		out.Header = append(out.Header, h)
		for i, row := range t.Rows {
			out.Rows[i] = append(out.Rows[i], row[c])
		}
	}
	return out
}

// pageCell is a cell with a class for its look. A metered one has a bar of some percent before its text.
type pageCell struct {
	Text, Class string
	Metered     bool
	Share       int
}

// pageCard shows how the values of a column are distributed.
type pageCard struct {
	Name, Under string
	Bars        []pageBar
	From, To    string
	Common      []pageCommon
	Note        string
}

type pageBar struct{ X, Y, W, H, Tip string }

type pageCommon struct {
	Text, Count string
	Share       int
}

// pageWidth and pageHeight are the size of a drawing in its own units.
const (
	pageWidth  = 320
	pageHeight = 80
)

func newPage(title, under string, info PageInfo) *page {
	return &page{Generator: PageMark, Title: title, Under: under,
		Footer: fmt.Sprintf("Written by trevak %s at %s.", info.Version, info.At.UTC().Format("2006-01-02 15:04:05Z"))}
}

func (p *page) add(part pagePart) { p.Parts = append(p.Parts, part) }

// tableOf makes a table of a page of one for the screen, whose cells stand to the right where they do there.
func tableOf(t Table) *pageTable {
	out := &pageTable{}
	class := func(c int) string {
		if c < len(t.Right) && t.Right[c] {
			return "right"
		}
		return "text"
	}
	for c, h := range t.Header {
		out.Header = append(out.Header, pageCell{Text: h, Class: strings.TrimPrefix(class(c), "text")})
	}
	for _, row := range t.Rows {
		cells := make([]pageCell, len(row))
		for c, text := range row {
			cells[c] = pageCell{Text: clean(text), Class: class(c)}
		}
		out.Rows = append(out.Rows, cells)
	}
	return out
}

// cardsOf shows the distributions of columns.
func cardsOf(columns []profile.Column) []pageCard {
	var out []pageCard
	for _, c := range columns {
		card := pageCard{Name: c.Path, Under: fmt.Sprintf("%s, %s", c.Type, Count(int(c.Values), "value", "values"))}
		if c.Nulls > 0 {
			card.Under += fmt.Sprintf(", %s null", Number(c.Nulls))
		}
		few := c.All && len(c.Bins) > 0 && len(c.Common) <= 6
		if len(c.Bins) > 0 && !few {
			card.Bars = barsOf(c.Bins)
			card.From, card.To = c.Bins[0].From, c.Bins[len(c.Bins)-1].To
		} else if len(c.Common) > 0 && (c.All || c.Common[0].Count > 1) {
			card.Common = commonOf(c)
		}
		switch {
		case c.Values == 0:
			card.Note = "no value"
		case len(card.Common) > 0 && !c.All:
			card.Note = "the commonest; there are others"
		case len(card.Common) == 0 && len(card.Bars) == 0:
			if card.Note = "values are not told"; len(c.Common) > 0 {
				card.Note = "hardly any value is there twice, such as " + clean(c.Common[0].Text)
			}
		}
		if len(card.Common) > 0 && c.Unseen > 0 {
			card.Note = fmt.Sprintf("the commonest; counts may be up to %s too low", Number(c.Unseen))
		}
		out = append(out, card)
	}
	return out
}

// barsOf draws bins as bars on one line.
func barsOf(bins []profile.Bin) []pageBar {
	most := int64(1)
	for _, b := range bins {
		most = max(most, b.Count)
	}
	width := float64(pageWidth) / float64(len(bins))
	out := make([]pageBar, 0, len(bins))
	for i, b := range bins {
		height := float64(b.Count) / float64(most) * pageHeight
		if b.Count > 0 {
			height = max(height, 1)
		}
		out = append(out, pageBar{X: fmt.Sprintf("%.1f", float64(i)*width+0.5), Y: fmt.Sprintf("%.1f", pageHeight+3.5-height),
			W: fmt.Sprintf("%.1f", max(width-1, 1)), H: fmt.Sprintf("%.1f", height),
			Tip: fmt.Sprintf("%s to %s: %s", b.From, b.To, Number(b.Count))})
	}
	return out
}

func commonOf(c profile.Column) (out []pageCommon) {
	for _, one := range c.Common {
		text := clean(one.Text)
		if text == "" {
			text = "(empty)"
		}
		out = append(out, pageCommon{text, Number(one.Count), percent(one.Count, c.Common[0].Count)})
	}
	return out
}

func percent(part, of int64) int { return int(100 * part / max(1, of)) }

// sizesOf shows what columns take in files, the largest first as they stand there.
func sizesOf(columns []profile.Column) *pagePart {
	var most, all int64
	for _, c := range columns {
		most, all = max(most, c.Bytes), all+c.Bytes
	}
	if most == 0 {
		return nil
	}
	t := &pageTable{Header: []pageCell{{Text: "column"}, {Text: "type"}, {Text: "compressed", Class: "right"},
		{Text: "raw", Class: "right"}, {Text: "of all"}}}
	for _, c := range columns {
		raw := ""
		if c.RawBytes > 0 {
			raw = Size(c.RawBytes)
		}
		t.Rows = append(t.Rows, []pageCell{{Text: c.Path, Class: "text code"}, {Text: c.Type.String(), Class: "text"},
			{Text: Size(c.Bytes), Class: "right"}, {Text: raw, Class: "right"},
			{Text: fmt.Sprintf("%d%%", percent(c.Bytes, all)), Metered: true, Share: percent(c.Bytes, most)}})
	}
	return &pagePart{Heading: "Sizes by column", Table: t}
}
