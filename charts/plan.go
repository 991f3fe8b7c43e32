// Package charts draws plans and trade-off curves as SVG and PNG, for those who
// look at them outside the console.
package charts

import (
	"bytes"
	"fmt"
	"image/color"
	"slices"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"rotanex.example/api"
	"rotanex.example/core/forecast"
)

// Formats that a picture can have.
const (
	SVG = "svg"
	PNG = "png"
)

var sans = font.Font{Typeface: "Liberation", Variant: "Sans"}

var (
	ink    = color.NRGBA{0x24, 0x2f, 0x3b, 0xff}
	faint  = color.NRGBA{0x6a, 0x76, 0x83, 0xff}
	closed = color.NRGBA{0xe6, 0xe9, 0xec, 0xff}
	line   = color.NRGBA{0xd4, 0xd9, 0xde, 0xff}
	alarm  = color.NRGBA{0xb4, 0x3a, 0x2e, 0xff}
	paid   = color.NRGBA{0x8d, 0x97, 0xa2, 0xff}
	teal   = color.NRGBA{0x2b, 0x7f, 0x76, 0xff}
	// shots are told apart by these, in the console's order.
	shots = []color.NRGBA{
		{0x2b, 0x7f, 0x76, 0xff},
		{0x8a, 0x5f, 0x1d, 0xff},
		{0x4f, 0x6d, 0x94, 0xff},
		{0x8a, 0x4a, 0x5a, 0xff},
		{0x5c, 0x7a, 0x3a, 0xff},
		{0x6b, 0x5a, 0x94, 0xff},
		{0x3d, 0x7f, 0x98, 0xff},
		{0x94, 0x66, 0x3f, 0xff},
	}
)

// lane is one row of the time axis: a crew of a host or server, or a farm.
type lane struct {
	place, crew string
	bookings    []api.PlannedBooking
}

func lanes(p api.Plan) []lane {
	var out []lane
	for _, b := range p.Bookings {
		i := slices.IndexFunc(out, func(l lane) bool { return l.place == b.Place && l.crew == b.Crew })
		if i < 0 {
			i = len(out)
			out = append(out, lane{place: b.Place, crew: b.Crew})
		}
		out[i].bookings = append(out[i].bookings, b)
	}
	slices.SortStableFunc(out, func(a, b lane) int { return slices.Compare([]string{a.place, a.crew}, []string{b.place, b.crew}) })
	return out
}

// Plan draws who renders what, when: bookings by crew, hours in which a host is not
// free, what is paid for and not used, uploads and the deadline. Times are in zone.
func Plan(p api.Plan, zone *time.Location, format string) ([]byte, error) {
	rows := lanes(p)
	pic := plot.New()
	pic.Title.Text = fmt.Sprintf("%s %s, finish %s", p.Currency, p.Cost, p.Finish.In(zone).Format("Mon 15:04"))
	if p.Chance != nil {
		pic.Title.Text += fmt.Sprintf(", %s to be in time", forecast.Percent(*p.Chance))
	}
	if p.Status != api.PlanStatusLate {
		pic.Title.Text += fmt.Sprintf("; no plan costs less than %s %s", p.Currency, p.CostBound)
	}
	pic.Title.TextStyle.Font = font.From(sans, vg.Points(13))
	pic.Title.TextStyle.Color, pic.Title.Padding = ink, vg.Points(10)
	end := p.Finish
	for _, t := range []time.Time{p.Deadline} {
		if t.After(end) {
			end = t
		}
	}
	for _, v := range p.Servers {
		if v.To.After(end) {
			end = v.To
		}
	}
	end = end.Add(end.Sub(p.Start) / 30)
	x := func(t time.Time) float64 { return t.Sub(p.Start).Hours() }
	pic.X.Min, pic.X.Max, pic.Y.Min, pic.Y.Max = 0, x(end), -0.6, float64(len(rows))-0.4
	pic.X.Tick.Marker = hours{p.Start.In(zone), end}
	var names []plot.Tick
	for i, l := range rows {
		y := float64(len(rows) - 1 - i)
		names = append(names, plot.Tick{Value: y, Label: l.place + "  " + l.crew})
	}
	pic.Y.Tick.Marker = plot.ConstantTicks(names)
	for _, axis := range []*plot.Axis{&pic.X, &pic.Y} {
		axis.Tick.Label.Color, axis.LineStyle.Width, axis.Tick.LineStyle.Color = ink, 0, line
		axis.Tick.Label.Font = font.From(sans, vg.Points(9))
	}
	pic.Y.Tick.Length = 0
	pic.Add(bars{p, rows, x})
	return rendered(pic, 24*vg.Centimeter, vg.Length(3+0.75*float64(max(3, len(rows))))*vg.Centimeter, format)
}

// hours ticks whole hours or days, whichever leave room for their labels.
type hours struct{ start, end time.Time }

func (h hours) Ticks(_, _ float64) []plot.Tick {
	span := h.end.Sub(h.start)
	step := 5 * time.Minute
	for _, s := range []time.Duration{10 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour, 168 * time.Hour} {
		if span/step <= 10 {
			break
		}
		step = s
	}
	layout := "15:04"
	if span > 20*time.Hour {
		layout = "Mon 15:04"
	}
	var out []plot.Tick
	for t := h.start.Truncate(step); t.Before(h.end); t = t.Add(step) {
		if !t.Before(h.start) {
			out = append(out, plot.Tick{Value: t.Sub(h.start).Hours(), Label: t.Format(layout)})
		}
	}
	return out
}

// bars draws the rows.
type bars struct {
	p    api.Plan
	rows []lane
	x    func(time.Time) float64
}

func (b bars) Plot(c draw.Canvas, pic *plot.Plot) {
	tx, ty := pic.Transforms(&c)
	box := func(from, to time.Time, y, half float64, fill color.Color, outline *draw.LineStyle) {
		l, r := tx(max(0, b.x(from))), tx(b.x(to))
		points := []vg.Point{{X: l, Y: ty(y - half)}, {X: r, Y: ty(y - half)}, {X: r, Y: ty(y + half)}, {X: l, Y: ty(y + half)}}
		if fill != nil {
			c.FillPolygon(fill, points)
		}
		if outline != nil {
			c.StrokeLines(*outline, append(points, points[0]))
		}
	}
	style := text.Style{Color: color.White, Font: font.From(sans, vg.Points(8)), Handler: plot.DefaultTextHandler, YAlign: text.YCenter}
	for i, row := range b.rows {
		y := float64(len(b.rows) - 1 - i)
		c.StrokeLine2(draw.LineStyle{Color: line, Width: vg.Points(0.5)}, c.Min.X, ty(y-0.5), c.Max.X, ty(y-0.5))
		b.shut(row.place, func(from, to time.Time) { box(from, to, y, 0.5, closed, nil) })
		for _, v := range b.p.Servers {
			if v.Id == row.place {
				box(v.From, v.From.Add(time.Duration(v.BilledS*float64(time.Second))), y, 0.36, nil,
					&draw.LineStyle{Color: paid, Width: vg.Points(0.8), Dashes: []vg.Length{vg.Points(3), vg.Points(2)}})
			}
		}
		for _, booking := range row.bookings {
			at := max(0, slices.Index(b.p.Shots, booking.Shot))
			box(booking.Start, booking.End, y, 0.36, shots[at%len(shots)], nil)
			label := fmt.Sprintf("%s · %d", booking.Shot, booking.Frames)
			width := tx(b.x(booking.End)) - tx(b.x(booking.Start)) - vg.Points(6)
			if style.Width(label) > width {
				label = fmt.Sprint(booking.Frames)
			}
			if style.Width(label) <= width {
				c.FillText(style, vg.Point{X: tx(b.x(booking.Start)) + vg.Points(4), Y: ty(y)}, label)
			}
		}
	}
	if !b.p.Deadline.IsZero() {
		at := tx(b.x(b.p.Deadline))
		c.StrokeLine2(draw.LineStyle{Color: alarm, Width: vg.Points(1.5)}, at, c.Min.Y, at, c.Max.Y)
	}
}

// shut calls f for each stretch in which a host is not free.
func (b bars) shut(host string, f func(from, to time.Time)) {
	for _, h := range b.p.Hours {
		if h.Host != host {
			continue
		}
		from := b.p.Start
		for _, w := range h.Windows {
			if w.From.After(from) {
				f(from, w.From)
			}
			from = w.To
		}
		if last := b.p.Deadline; last.After(from) {
			f(from, last)
		}
	}
}

// Curve draws cost against finish, with the marked points named.
func Curve(c api.Curve, zone *time.Location, format string) ([]byte, error) {
	pic := plot.New()
	pic.Title.Text = "What an earlier finish costs"
	pic.Title.TextStyle.Font = font.From(sans, vg.Points(13))
	pic.Title.TextStyle.Color, pic.Title.Padding = ink, vg.Points(10)
	pic.Y.Label.Text = c.Currency
	pic.Y.Label.TextStyle.Font = font.From(sans, vg.Points(9))
	start, end := c.Points[0].Finish, c.Points[len(c.Points)-1].Finish
	margin := max(end.Sub(start)/20, 5*time.Minute)
	start, end = start.Add(-margin), end.Add(margin)
	pic.X.Tick.Marker = hours{start.In(zone), end}
	steps := make(plotter.XYs, 0, len(c.Points)*2)
	dots := make(plotter.XYs, len(c.Points))
	var names []string
	var named plotter.XYs
	for i, p := range c.Points {
		x, y := p.Finish.Sub(start).Hours(), amount(p.Cost)
		if i > 0 {
			steps = append(steps, plotter.XY{X: x, Y: steps[len(steps)-1].Y})
		}
		steps = append(steps, plotter.XY{X: x, Y: y})
		dots[i] = plotter.XY{X: x, Y: y}
		if p.Mark != "" {
			names = append(names, fmt.Sprintf("  %s: %s %s, %s", p.Mark, c.Currency, p.Cost, p.Finish.In(zone).Format("Mon 15:04")))
			named = append(named, plotter.XY{X: x, Y: y})
		}
	}
	path, err := plotter.NewLine(steps)
	if err != nil {
		return nil, err
	}
	path.Color, path.Width = teal, vg.Points(1.5)
	points, err := plotter.NewScatter(dots)
	if err != nil {
		return nil, err
	}
	points.Color, points.Radius, points.Shape = teal, vg.Points(3.5), draw.CircleGlyph{}
	labels, err := plotter.NewLabels(plotter.XYLabels{XYs: named, Labels: names})
	if err != nil {
		return nil, err
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Color, labels.TextStyle[i].Font = ink, font.From(sans, vg.Points(9))
		labels.TextStyle[i].YAlign = -1.4
	}
	grid := plotter.NewGrid()
	grid.Horizontal.Color, grid.Vertical.Color = line, line
	pic.Add(grid, path, points, labels)
	pic.X.Min, pic.X.Max, pic.Y.Min = 0, end.Sub(start).Hours()*1.25, 0
	pic.Y.Max *= 1.12
	for _, axis := range []*plot.Axis{&pic.X, &pic.Y} {
		axis.Tick.Label.Color, axis.LineStyle.Color, axis.Tick.LineStyle.Color, axis.Label.TextStyle.Color = ink, line, line, faint
		axis.Tick.Label.Font = font.From(sans, vg.Points(9))
	}
	return rendered(pic, 24*vg.Centimeter, 13*vg.Centimeter, format)
}

func amount(text string) (v float64) {
	_, _ = fmt.Sscanf(text, "%g", &v)
	return v
}

func rendered(pic *plot.Plot, width, height vg.Length, format string) ([]byte, error) {
	canvas, err := draw.NewFormattedCanvas(width, height, format)
	if err != nil {
		return nil, err
	}
	page := draw.New(canvas)
	page.SetColor(color.White)
	page.Fill(page.Rectangle.Path())
	const margin = 14
	pic.BackgroundColor = nil
	pic.Draw(draw.Crop(page, margin, -margin, margin, -margin))
	var out bytes.Buffer
	_, err = canvas.WriteTo(&out)
	return out.Bytes(), err
}
