package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"image/color"
	"os"
	"slices"

	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// curve is one line of a picture: what is measured, and how an outcome tells it; false when it does not.
type curve struct {
	name string
	of   func(*outcome) (float64, bool)
}

// median is the time that half of the requests of a kind took at most, in ms.
func median(what string) func(*outcome) (float64, bool) {
	return func(o *outcome) (float64, bool) {
		i := slices.IndexFunc(o.Load, func(r result) bool { return r.What == what && r.Count > 0 })
		if i < 0 {
			return 0, false
		}
		return o.Load[i].P50, true
	}
}

// once is a figure that was measured once, times something.
func once(what string, times func(*outcome) float64) func(*outcome) (float64, bool) {
	return func(o *outcome) (float64, bool) {
		i := slices.IndexFunc(o.Figures, func(f figure) bool { return f.What == what })
		if i < 0 {
			return 0, false
		}
		return o.Figures[i].Value * times(o), true
	}
}

func thousand(*outcome) float64        { return 1000 }
func megabytes(o *outcome) float64     { return float64(o.Devices) / 1024 }
func colour(r, g, b uint8) color.NRGBA { return color.NRGBA{r, g, b, 255} }

// hues are told apart by who sees red and green alike, and the lines by their marks besides.
var hues = []color.NRGBA{colour(0x1b, 0x4f, 0x8f), colour(0xc4, 0x6a, 0x12), colour(0x2f, 0x7d, 0x5b), colour(0x8c, 0x3f, 0x7a),
	colour(0x55, 0x55, 0x55), colour(0xa0, 0x2c, 0x2c), colour(0x0d, 0x83, 0x9a)}

var marks = []draw.GlyphDrawer{draw.CircleGlyph{}, draw.SquareGlyph{}, draw.TriangleGlyph{}, draw.CrossGlyph{}, draw.PlusGlyph{},
	draw.RingGlyph{}, draw.PyramidGlyph{}}

// picture draws how what was measured grows with the fleet, from files that were written with -out, into a PNG.
func picture(path string, files []string) error {
	var all []outcome
	for _, name := range files {
		raw, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		var o outcome
		if err := json.Unmarshal(raw, &o); err != nil {
			return fmt.Errorf("%s is not what -out writes: %w", name, err)
		}
		all = append(all, o)
	}
	if len(all) < 2 {
		return errors.New("a picture is of two fleets at least: -draw PICTURE.png FILE FILE")
	}
	slices.SortFunc(all, func(a, b outcome) int { return cmp.Compare(a.Devices, b.Devices) })
	plot.DefaultFont = font.Font{Typeface: "Liberation", Variant: "Sans"}
	times, err := grows("How long it takes, ms", all, []curve{
		{"decision, median", median("decision, durable")}, {"overview, median", median("overview")},
		{"sorted list, median", median("list of devices, sorted")},
		{"search by a name, median", median("search by a part of a name")},
		{"publication, one rule", once("publication that changes one rule", thousand)},
		{"publication, all rules", once("publication that changes all rules", thousand)},
		{"restart", once("restart to ready", thousand)}})
	if err != nil {
		return err
	}
	memory, err := grows("Memory, MB", all, []curve{{"at worst, under load", once("memory at worst, under load", megabytes)},
		{"after a restart", once("memory at rest", megabytes)}})
	if err != nil {
		return err
	}
	img := vgimg.NewWith(vgimg.UseWH(1100, 480), vgimg.UseDPI(72))
	whole := draw.New(img)
	tiles := draw.Tiles{Rows: 1, Cols: 2, PadX: 24, PadTop: 12, PadBottom: 12, PadLeft: 12, PadRight: 16}
	for i, c := range plot.Align([][]*plot.Plot{{times, memory}}, tiles, whole)[0] {
		[]*plot.Plot{times, memory}[i].Draw(c)
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = vgimg.PngCanvas{Canvas: img}.WriteTo(f)
	return errors.Join(err, f.Close())
}

// inFull are ticks at powers of ten, whose numbers are written out.
type inFull struct{}

func (inFull) Ticks(low, high float64) []plot.Tick {
	ticks := plot.LogTicks{}.Ticks(low, high)
	for i, t := range ticks {
		if t.Label != "" {
			ticks[i].Label = message.NewPrinter(language.English).Sprintf("%.0f", t.Value)
		}
	}
	return ticks
}

// grows is a plot of curves over the size of the fleet, on two scales of powers of ten.
func grows(title string, all []outcome, curves []curve) (*plot.Plot, error) {
	p := plot.New()
	p.Title.Text, p.X.Label.Text = title, "devices"
	p.Title.Padding = 8
	p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	p.X.Tick.Marker, p.Y.Tick.Marker = inFull{}, inFull{}
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.Padding = 2
	p.Add(plotter.NewGrid())
	most := 0.0
	for i, c := range curves {
		var points plotter.XYs
		for j := range all {
			if y, ok := c.of(&all[j]); ok && y > 0 {
				points = append(points, plotter.XY{X: float64(all[j].Devices), Y: y})
				most = max(most, y)
			}
		}
		if len(points) == 0 {
			continue
		}
		line, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return nil, err
		}
		line.Color, dots.Color = hues[i], hues[i]
		line.Width, dots.Shape, dots.Radius = 1.5, marks[i], vg.Points(3.5)
		p.Add(line, dots)
		p.Legend.Add(c.name, line, dots)
	}
	p.Y.Max = most * 40 // room for the legend
	return p, nil
}
