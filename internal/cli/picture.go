package cli

import (
	"bytes"
	"fmt"
	"image/color"
	"time"

	"github.com/fogleman/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"

	"keenlodge/internal/core/forecast"
	"keenlodge/internal/wire"
)

// Measures of a forecast's picture, in pixels.
const (
	pictureWidth = 1280
	pictureLeft  = 170
	pictureRight = 24
	laneHeight   = 104
	storeHeight  = 190
	headHeight   = 84
	footHeight   = 58
)

// Colours of a forecast's picture.
var (
	paper     = color.RGBA{0xfb, 0xfa, 0xf6, 0xff}
	inkColour = color.RGBA{0x1f, 0x2a, 0x30, 0xff}
	quiet     = color.RGBA{0x5d, 0x6b, 0x72, 0xff}
	rule      = color.RGBA{0xd9, 0xd5, 0xc8, 0xff}
	deep      = color.RGBA{0x12, 0x62, 0x6e, 0xff}
	light     = color.RGBA{0x5f, 0xa8, 0xa0, 0xff}
	pale      = color.RGBA{0xd5, 0xe8, 0xe5, 0xff}
	wrong     = color.RGBA{0xb0, 0x3a, 0x2e, 0xff}
)

// picture is a drawing under way.
type picture struct {
	*gg.Context
	small, normal, bold font.Face
	days                int
	first               time.Time
}

// drawForecast draws a forecast as PNG: a lane for each policy with its runs, images and drops by day, then the free room of each store
// with its range and its floor.
func drawForecast(f wire.Forecast) ([]byte, error) {
	days := 0
	if len(f.Policies) > 0 {
		days = len(f.Policies[0].Days)
	}
	first, err := time.Parse(time.DateOnly, f.From)
	if err != nil || days == 0 {
		return nil, fmt.Errorf("there is nothing to draw: no policy")
	}
	height := headHeight + len(f.Policies)*laneHeight + len(f.Stores)*storeHeight + footHeight
	p := &picture{Context: gg.NewContext(pictureWidth, height), days: days, first: first}
	for _, face := range []struct {
		to   *font.Face
		ttf  []byte
		size float64
	}{{&p.small, goregular.TTF, 11}, {&p.normal, goregular.TTF, 13}, {&p.bold, gobold.TTF, 15}} {
		parsed, err := opentype.Parse(face.ttf)
		if err != nil {
			return nil, err
		}
		if *face.to, err = opentype.NewFace(parsed, &opentype.FaceOptions{Size: face.size, DPI: 72, Hinting: font.HintingFull}); err != nil {
			return nil, err
		}
	}
	p.SetColor(paper)
	p.Clear()
	p.text(p.bold, inkColour, 20, 30, 0, fmt.Sprintf("Forecast of %d days from %s, by the clock of %s", days, first.Format("2 January 2006"), f.Zone))
	p.axis(float64(height - footHeight))
	y := float64(headHeight)
	for _, lane := range f.Policies {
		p.lane(lane, y, f.Crowds)
		y += laneHeight
	}
	for _, s := range f.Stores {
		p.store(s, y)
		y += storeHeight
	}
	p.legend(float64(height - 24))
	var out bytes.Buffer
	err = p.EncodePNG(&out)
	return out.Bytes(), err
}

func (p *picture) text(face font.Face, c color.Color, x, y, anchor float64, text string) {
	p.SetFontFace(face)
	p.SetColor(c)
	p.DrawStringAnchored(text, x, y, anchor, 0)
}

// column is how wide a day is, x where a moment of a day lies.
func (p *picture) column() float64 {
	return float64(pictureWidth-pictureLeft-pictureRight) / float64(p.days)
}
func (p *picture) x(day int, share float64) float64 {
	return pictureLeft + (float64(day)+share)*p.column()
}

// axis draws the days, as many of them named as there is room for.
func (p *picture) axis(bottom float64) {
	every := 1
	for float64(every)*p.column() < 44 {
		every++
	}
	for d := range p.days {
		day := p.first.AddDate(0, 0, d)
		p.SetColor(rule)
		p.SetLineWidth(0.5)
		if day.Weekday() == time.Monday || d == 0 {
			p.SetLineWidth(1.4)
		}
		p.DrawLine(p.x(d, 0), headHeight-10, p.x(d, 0), bottom)
		p.Stroke()
		if d%every == 0 {
			p.text(p.small, quiet, p.x(d, 0)+2, headHeight-30, 0, day.Format("Mon"))
			p.text(p.small, quiet, p.x(d, 0)+2, headHeight-16, 0, day.Format("2 Jan"))
		}
	}
}

// lane draws a policy: runs above, images that exist at each day's end below, and how many go.
func (p *picture) lane(lane forecast.PolicyDays, y float64, crowds []forecast.Contention) {
	p.text(p.normal, inkColour, 20, y+22, 0, lane.Policy)
	p.text(p.small, quiet, 20, y+40, 0, "runs")
	p.text(p.small, quiet, 20, y+78, 0, "images")
	p.SetColor(rule)
	p.SetLineWidth(1)
	p.DrawLine(20, y+laneHeight-4, pictureWidth-pictureRight, y+laneHeight-4)
	p.Stroke()
	most := 1
	for _, d := range lane.Days {
		most = max(most, d.Images)
	}
	for i, d := range lane.Days {
		for _, r := range d.Runs {
			hour := float64(r.At.Hour()*60+r.At.Minute()) / (24 * 60)
			wide, tall, fill := 3.0, 12.0, light
			if r.Full > 0 {
				wide, tall, fill = 5, 20, deep
			}
			for _, c := range crowds {
				if !r.At.Before(c.From) && r.At.Before(c.Until) {
					p.SetColor(wrong)
					p.DrawCircle(p.x(i, hour)+wide/2, y+10, 2.5)
					p.Fill()
				}
			}
			p.SetColor(fill)
			p.DrawRectangle(min(p.x(i, hour), p.x(i+1, 0)-wide), y+36-tall, wide, tall)
			p.Fill()
		}
		bar := 34 * float64(d.Images) / float64(most)
		p.SetColor(pale)
		p.DrawRectangle(p.x(i, 0)+1, y+82-bar, max(1, p.column()-2), bar)
		p.Fill()
		if p.column() >= 18 {
			p.text(p.small, inkColour, p.x(i, 0.5), y+80, 0.5, fmt.Sprint(d.Images))
			if d.Held {
				p.text(p.small, wrong, p.x(i, 0.5), y+95, 0.5, "held")
			} else if d.Dropped > 0 {
				p.text(p.small, wrong, p.x(i, 0.5), y+95, 0.5, fmt.Sprintf("-%d", d.Dropped))
			}
		}
	}
}

// store draws the free room of a store: the likely course in its range, and the floor.
func (p *picture) store(s forecast.StoreDays, y float64) {
	p.text(p.normal, inkColour, 20, y+30, 0, s.Store)
	p.text(p.small, quiet, 20, y+48, 0, "free room")
	if len(s.Free) == 0 {
		p.text(p.small, quiet, pictureLeft, y+48, 0, "the medium does not tell how much is free")
		return
	}
	low, high := s.Free[0].Low, s.Free[0].High
	for _, r := range s.Free {
		low, high = min(low, r.Low), max(high, r.High)
	}
	if s.Floor > 0 {
		low = min(low, s.Floor)
	}
	low = min(low, high-high/10) // a change of a thousandth is none that one should see
	margin := max(1, (high-low)/12)
	low, high = max(0, low-margin), high+margin
	const top, tall = 18, storeHeight - 40
	at := func(n int64) float64 { return y + top + tall*(1-float64(n-low)/float64(high-low)) }
	for i := range 4 {
		n := low + (high-low)*int64(i)/3
		p.SetColor(rule)
		p.SetLineWidth(0.7)
		p.DrawLine(pictureLeft, at(n), pictureWidth-pictureRight, at(n))
		p.Stroke()
		p.text(p.small, quiet, pictureLeft-8, at(n)+4, 1, size(n))
	}
	for i, r := range s.Free {
		p.LineTo(p.x(i, 1), at(r.High))
	}
	for i := len(s.Free) - 1; i >= 0; i-- {
		p.LineTo(p.x(i, 1), at(max(0, s.Free[i].Low)))
	}
	p.ClosePath()
	p.SetColor(pale)
	p.Fill()
	for i, r := range s.Free {
		p.LineTo(p.x(i, 1), at(max(0, r.Likely)))
	}
	p.SetColor(deep)
	p.SetLineWidth(2)
	p.Stroke()
	if s.Floor > 0 {
		p.SetColor(wrong)
		p.SetLineWidth(1.5)
		p.SetDash(6, 4)
		p.DrawLine(pictureLeft, at(s.Floor), pictureWidth-pictureRight, at(s.Floor))
		p.Stroke()
		p.SetDash()
		p.text(p.small, wrong, pictureWidth-pictureRight-4, at(s.Floor)-5, 1, "floor "+size(s.Floor))
	}
	switch {
	case s.Hit != "":
		p.text(p.small, wrong, 20, y+66, 0, "floor hit "+s.Hit)
	case s.HitEarly != "":
		p.text(p.small, wrong, 20, y+66, 0, "at worst "+s.HitEarly)
	default:
		p.text(p.small, quiet, 20, y+66, 0, "floor not hit")
	}
}

func (p *picture) legend(y float64) {
	x := 20.0
	for _, l := range []struct {
		c    color.Color
		text string
	}{{deep, "run with full images"}, {light, "run with changes only"}, {pale, "images at the day's end, below them those that rotation drops, or that the guard holds; range of the free room"}, {wrong, "floor; a dot: machines of several policies meet and wait"}} {
		p.SetColor(l.c)
		p.DrawRectangle(x, y-10, 12, 12)
		p.Fill()
		p.text(p.small, inkColour, x+18, y, 0, l.text)
		w, _ := p.MeasureString(l.text)
		x += w + 42
	}
}
