package render

import (
	"bufio"
	_ "embed"
	"fmt"
	"html"
	"io"
)

//go:embed page.css
var pageStyle string

// markup writes a page as HTML. It is written here, and not by the standard library's templates: they look up what they call while the
// program runs, so that the linker would have to keep every method of every library.
type markup struct{ out *bufio.Writer }

// put writes HTML, in which each %s stands for a text that is escaped.
func (m markup) put(form string, texts ...string) {
	values := make([]any, len(texts))
	for i, text := range texts {
		values[i] = html.EscapeString(text)
	}
	fmt.Fprintf(m.out, form, values...)
}

// write writes the page; the error is the first one of w.
func (p *page) write(w io.Writer) error {
	m := markup{bufio.NewWriter(w)}
	m.put(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="generator" content="%s">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="color-scheme" content="light dark">
<title>%s</title>
<style>
`, p.Generator, p.Title)
	m.out.WriteString(pageStyle)
	m.put(`</style>
</head>
<body>
<main>
<h1>%s</h1>
<p class="under">%s</p>
`, p.Title, p.Under)
	if p.Verdict != "" {
		class, sign := "verdict", "✓"
		if p.Bad {
			class, sign = "verdict bad", "✗"
		}
		m.put("<p class=\"%s\"><strong>%s</strong> %s</p>\n", class, sign, p.Verdict)
	}
	for _, part := range p.Parts {
		m.part(part)
	}
	m.put("<footer>%s</footer>\n</main>\n</body>\n</html>\n", p.Footer)
	return m.out.Flush()
}

func (m markup) part(part pagePart) {
	if part.Heading != "" {
		m.put("<h2>%s</h2>\n", part.Heading)
	}
	if len(part.Numbers) > 0 {
		m.put(`<ul class="numbers">`)
		for _, n := range part.Numbers {
			m.put(`<li><b>%s</b><span>%s</span></li>`, n.Value, n.Name)
		}
		m.put("</ul>\n")
	}
	for _, note := range part.Notes {
		m.put("<p>%s</p>\n", note)
	}
	if part.Table != nil {
		m.table(part.Table)
	}
	if len(part.Cards) > 0 {
		m.put(`<div class="cards">`)
		for _, card := range part.Cards {
			m.card(card)
		}
		m.put("\n</div>\n")
	}
}

func (m markup) table(t *pageTable) {
	m.put("<div class=\"scroll\"><table>\n<thead><tr>")
	for _, cell := range t.Header {
		m.cell("th", cell)
	}
	m.put("</tr></thead>\n<tbody>")
	for _, row := range t.Rows {
		m.put("\n<tr>")
		for _, cell := range row {
			m.cell("td", cell)
		}
		m.put("</tr>")
	}
	m.put("\n</tbody></table></div>\n")
}

func (m markup) cell(element string, cell pageCell) {
	m.put("<" + element)
	if cell.Class != "" {
		m.put(` class="%s"`, cell.Class)
	}
	m.put(">")
	if cell.Metered {
		m.put(`<span class="meter"><i style="width:%s%%"></i></span> `, fmt.Sprint(cell.Share))
	}
	m.put("%s</"+element+">", cell.Text)
}

func (m markup) card(card pageCard) {
	m.put("\n<section class=\"card\"><h3>%s</h3><p class=\"under\">%s</p>\n", card.Name, card.Under)
	if len(card.Bars) > 0 {
		width := fmt.Sprint(pageWidth)
		m.put(`<svg viewBox="0 0 %s 84" preserveAspectRatio="none" role="img" aria-label="how the values are spread">`, width)
		for _, bar := range card.Bars {
			m.put(`<rect x="%s" y="%s" width="%s" height="%s"><title>%s</title></rect>`, bar.X, bar.Y, bar.W, bar.H, bar.Tip)
		}
		m.put("<line x1=\"0\" y1=\"83.5\" x2=\"%s\" y2=\"83.5\"/></svg>\n", width)
	}
	if card.From != "" {
		m.put("<div class=\"ends\"><span>%s</span><span>%s</span></div>\n", card.From, card.To)
	}
	if len(card.Common) > 0 {
		m.put(`<table class="common">`)
		for _, c := range card.Common {
			m.put(`<tr><td title="%s">%s</td><td><div class="bar" style="width:%s%%"></div></td><td class="right">%s</td></tr>`,
				c.Text, c.Text, fmt.Sprint(c.Share), c.Count)
		}
		m.put("</table>\n")
	}
	if card.Note != "" {
		m.put(`<p class="under">%s</p>`, card.Note)
	}
	m.put("</section>")
}
