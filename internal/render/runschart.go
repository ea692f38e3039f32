package render

import (
	"fmt"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"trevak/internal/fault"
	"trevak/internal/runlog"
	"trevak/internal/storage"
)

// series is one thing that is drawn of runs over time.
type series struct {
	name string
	of   func(e runlog.Entry) float64
	text func(v float64) string
}

var runSeries = []series{
	{"rows", func(e runlog.Entry) float64 { return float64(e.Rows) }, func(v float64) string { return Number(int64(v)) }},
	{"bytes read", func(e runlog.Entry) float64 { return float64(e.Bytes) }, func(v float64) string { return Size(int64(v)) }},
	{"seconds", seconds, func(v float64) string { return fmt.Sprintf("%.2f", v) }},
}

func seconds(e runlog.Entry) float64 {
	if e.Ended == nil {
		return 0
	}
	return e.Ended.Sub(e.Began).Seconds()
}

// ended are the runs that ended, the oldest first.
func ended(list []runlog.Entry) (out []runlog.Entry) {
	for _, e := range slices.Backward(list) {
		if e.Ended != nil {
			out = append(out, e)
		}
	}
	return out
}

// barsWide is how wide bars are at most in a terminal.
const barsWide = 40

// RunsChartText draws rows, bytes and seconds of runs in the terminal, a line a run.
func RunsChartText(s Screen, list []runlog.Entry) {
	runs := ended(list)
	if len(runs) == 0 {
		s.Printf("no run that ended is known\n")
		return
	}
	for i, one := range runSeries {
		if i > 0 {
			s.Printf("\n")
		}
		s.Printf("%s\n", s.Bold(one.name))
		most, wide := 0.0, 0
		for _, e := range runs {
			most, wide = math.Max(most, one.of(e)), max(wide, length(one.text(one.of(e))))
		}
		for _, e := range runs {
			v, filled := one.of(e), 0
			if most > 0 {
				filled = int(math.Round(v / most * barsWide))
			}
			mark := ""
			if o := runOutcome(e); o != "loaded" {
				mark = "  " + o
			}
			s.Printf("  %5d  %s  %s%s  %*s%s\n", e.ID, minute(&e.Began), strings.Repeat("█", filled), strings.Repeat("·", barsWide-filled),
				wide, one.text(v), mark)
		}
	}
}

// RunsChart draws rows, bytes and seconds of runs over time, one below the other, into a file that ends in .png or .svg.
func RunsChart(path string, list []runlog.Entry) error {
	ending := strings.ToLower(filepath.Ext(path))
	if ending != ".svg" && ending != ".png" {
		return fault.New(fault.Usage, "--chart %s is neither an .svg nor a .png file",
			path).Try("name a file that ends in one of them, or - for the terminal")
	}
	runs := ended(list)
	if len(runs) == 0 {
		return fault.New(fault.Usage, "there is no run that ended, so there is nothing to draw").Try("carry out a run sheet first")
	}
	plots := make([][]*plot.Plot, len(runSeries))
	for i, one := range runSeries {
		p, err := runPlot(one, runs, i == len(runSeries)-1)
		if err != nil {
			return err
		}
		plots[i] = []*plot.Plot{p}
	}
	title := fmt.Sprintf("\n%s, from run %d to run %d", Count(len(runs), "run", "runs"), runs[0].ID, runs[len(runs)-1].ID)
	if slices.ContainsFunc(runs, endedBadly) {
		title += "; × did not end well"
	}
	plots[0][0].Title.Text = title
	plots[0][0].Title.Padding = vg.Points(8)
	const width, height = 10 * vg.Inch, 7.5 * vg.Inch
	var canvas vg.CanvasWriterTo
	var on vg.CanvasSizer
	if ending == ".png" {
		image := vgimg.PngCanvas{Canvas: vgimg.New(width, height)}
		canvas, on = image, image
	} else {
		image := vgsvg.New(width, height)
		canvas, on = image, image
	}
	tiles := draw.Tiles{Rows: len(plots), Cols: 1, PadTop: vg.Points(4), PadBottom: vg.Points(8), PadLeft: vg.Points(8),
		PadRight: vg.Points(16),
		PadY:     vg.Points(10)}
	for i, row := range plot.Align(plots, tiles, draw.New(on)) {
		plots[i][0].Draw(row[0])
	}
	return storage.WriteTo(path, canvas)
}

// runPlot draws one thing of runs over time.
func runPlot(one series, runs []runlog.Entry, last bool) (*plot.Plot, error) {
	p := plot.New()
	p.Y.Label.Text, p.Y.Min = one.name, 0
	scale := 1.0
	most := 0.0
	for _, e := range runs {
		most = math.Max(most, one.of(e))
	}
	if one.name == "bytes read" {
		for _, unit := range []string{"kB", "MB", "GB"} {
			if most/scale < 10_000 {
				break
			}
			scale *= 1000
			p.Y.Label.Text = "read, " + unit
		}
	}
	points, marks := make(plotter.XYs, len(runs)), plotter.XYs{}
	for i, e := range runs {
		points[i] = plotter.XY{X: float64(e.Began.Unix()), Y: one.of(e) / scale}
		if endedBadly(e) {
			marks = append(marks, points[i])
		}
	}
	line, dots, err := plotter.NewLinePoints(points)
	if err != nil {
		return nil, fmt.Errorf("drawing the chart: %w", err)
	}
	line.Color, line.Width, dots.Color, dots.Shape, dots.Radius = barColor, vg.Points(1.2), barColor, draw.CircleGlyph{}, vg.Points(2.5)
	p.Add(plotter.NewGrid(), line, dots)
	if len(marks) > 0 {
		failed, err := plotter.NewScatter(marks)
		if err != nil {
			return nil, fmt.Errorf("drawing the chart: %w", err)
		}
		failed.Color, failed.Shape, failed.Radius = alarmColor, draw.CrossGlyph{}, vg.Points(5)
		p.Add(failed)
	}
	p.X.Tick.Marker = plot.TimeTicks{Ticker: plot.DefaultTicks{}, Format: timeForm(runs), Time: plot.UTCUnixTime}
	if most == 0 {
		p.Y.Max = 1
	} else {
		p.Y.Max = most / scale * 1.1
	}
	if last {
		p.X.Label.Text = "began (UTC)"
	}
	return p, nil
}

// endedBadly reports whether a run that ended did not end well.
func endedBadly(e runlog.Entry) bool { return e.Outcome != "loaded" && e.Outcome != "nothing_new" }

// timeForm is how moments are written below, by how far apart they are.
func timeForm(runs []runlog.Entry) string {
	switch span := runs[len(runs)-1].Began.Sub(runs[0].Began); {
	case span < 2*time.Minute:
		return "15:04:05"
	case span < 36*time.Hour:
		return "15:04"
	}
	return "2006-01-02"
}
