package render

import (
	"fmt"
	"image/color"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"trevak/internal/fault"
	"trevak/internal/weigh"
)

// barColor is a sea green that stands out on white, printed in grey too.
var barColor = color.RGBA{R: 0x2f, G: 0x7f, B: 0x79, A: 0xff}

// alarmColor is a red that stands out beside it.
var alarmColor = color.RGBA{R: 0xb3, G: 0x26, B: 0x1e, A: 0xff}

// WeighingChart draws the size of the sample under each codec, and writes it to a file that ends in .svg or .png.
func WeighingChart(path string, w *weigh.Weighing) error {
	if e := strings.ToLower(filepath.Ext(path)); e != ".svg" && e != ".png" {
		return fault.New(fault.Usage, "--chart %s is neither an .svg nor a .png file", path).Try("name a file that ends in one of them")
	}
	unit, name := 1e6, "MB"
	if w.Whole[0].Bytes < 1e6 {
		unit, name = 1e3, "kB"
	}
	p := plot.New()
	p.Title.Text = fmt.Sprintf("\n%s: %s, by codec", filepath.Base(w.Source), Count(int(w.Rows), "row", "rows"))
	p.Title.Padding = vg.Points(10)
	p.Y.Label.Text, p.Y.Min = name, 0
	values := make(plotter.Values, len(w.Whole))
	names := make([]string, len(w.Whole))
	labels := plotter.XYLabels{}
	for i, t := range w.Whole {
		values[i], names[i] = float64(t.Bytes)/unit, string(t.Codec)
		labels.XYs = append(labels.XYs, plotter.XY{X: float64(i), Y: values[i]})
		labels.Labels = append(labels.Labels, fmt.Sprintf("%.1f", values[i]))
	}
	bars, err := plotter.NewBarChart(values, vg.Points(36))
	if err != nil {
		return fmt.Errorf("drawing the chart: %w", err)
	}
	bars.Color, bars.LineStyle.Width = barColor, 0
	grid := plotter.NewGrid()
	grid.Vertical.Width = 0
	texts, err := plotter.NewLabels(labels)
	if err != nil {
		return fmt.Errorf("drawing the chart: %w", err)
	}
	for i := range texts.TextStyle {
		texts.TextStyle[i].XAlign, texts.TextStyle[i].YAlign = -0.5, 0.2
	}
	p.Add(grid, bars, texts)
	p.NominalX(names...)
	p.X.Min, p.X.Max = -0.6, float64(len(w.Whole))-0.4
	p.Y.Max *= 1.1
	return fault.Wrap(fault.Storage, p.Save(8*vg.Inch, 5*vg.Inch, path), "the chart %s cannot be written", path)
}
