package render

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"

	svg "github.com/ajstarks/svgo/float"
	"github.com/fogleman/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"

	"proudlantern.example/lantern/core/chart"
	"proudlantern.example/lantern/core/check"
)

// The colours of a map: paper, and the lamp's own on it.
const (
	paperColour = "#fbfaf6"
	hostColour  = "#edf1f1"
	cardColour  = "#ffffff"
	edgeColour  = "#c3ced2"
)

var toneColours = map[chart.Tone]string{
	chart.Ink: "#1d2a33", chart.Faint: "#66757f", chart.Way: "#14776b", chart.Error: "#c0362c",
	chart.Warning: "#9a6400",
}

// wireColours tell wires apart; none of them says anything else.
var wireColours = []string{"#3b6fb6", "#8a55a8", "#b0568a", "#5a7d36", "#2b7f92", "#7a6a55", "#5561c4", "#a04f6a"}

func wireColour(n int) string { return wireColours[(n-1)%len(wireColours)] }

func textColour(t chart.Text) string {
	if t.Wire > 0 {
		return wireColour(t.Wire)
	}
	return toneColours[t.Tone]
}

// fonts are the two of a map, in the sizes that were asked for.
type fonts struct {
	regular, bold *opentype.Font
	faces         map[fontSize]font.Face
}

type fontSize struct {
	size float64
	bold bool
}

func newFonts() (*fonts, error) {
	regular, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return nil, err
	}
	bold, err := opentype.Parse(gobold.TTF)
	return &fonts{regular, bold, map[fontSize]font.Face{}}, err
}

// face returns a font of a size in pixels.
func (f *fonts) face(size float64, bold bool) font.Face {
	key := fontSize{size, bold}
	if f.faces[key] == nil {
		of := f.regular
		if bold {
			of = f.bold
		}
		// The error is that of a size that makes no sense; ours do.
		f.faces[key], _ = opentype.NewFace(of, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingNone})
	}
	return f.faces[key]
}

// measure is a [chart.Measure]. Letters that the font has not are as wide as its sign for them.
func (f *fonts) measure(text string, size float64, bold bool) float64 {
	return float64(font.MeasureString(f.face(size, bold), text)) / 64
}

// DrawMap lays a map out for [MapSVG] and [MapPNG].
func DrawMap(m chart.Map) (chart.Drawing, error) {
	f, err := newFonts()
	if err != nil {
		return chart.Drawing{}, err
	}
	return chart.Draw(m, f.measure), nil
}

// corner is the radius of the corners of boxes, and dot that of the end of a wire, in pixels.
const (
	corner    = 6
	dot       = 3.2
	wireWidth = 1.6
)

// MapSVG writes a drawing as SVG. Each text is as wide as it was measured, whatever font is there; for programs that do
// not obey that, the fonts are narrow ones.
func MapSVG(w io.Writer, d chart.Drawing, title string) {
	s := svg.New(w)
	s.Start(math.Ceil(d.Width), math.Ceil(d.Height),
		fmt.Sprintf(`viewBox="0 0 %.0f %.0f" font-family="Go, Arial, Helvetica, 'Liberation Sans', sans-serif"`,
			math.Ceil(d.Width), math.Ceil(d.Height)))
	s.Title(plainText(title))
	s.Rect(0, 0, d.Width, d.Height, fill(paperColour))
	for _, b := range d.Boxes {
		if framed(b) {
			s.Roundrect(b.X, b.Y, b.W, b.H, corner, corner, fill(boxColour(b)), stroke(edgeColour, 1))
		} else {
			s.Rect(b.X, b.Y, b.W, b.H, fill(boxColour(b)))
		}
	}
	for _, wire := range d.Wires {
		var x, y []float64
		for _, p := range wire.Points {
			x, y = append(x, p.X), append(y, p.Y)
		}
		s.Gstyle("fill:none;stroke-linejoin:round")
		s.Title(plainText(wire.From + " needs " + wire.To))
		s.Polyline(x, y, stroke(wireColour(wire.Colour), wireWidth))
		s.Circle(x[len(x)-1], y[len(y)-1], dot, fill(wireColour(wire.Colour)))
		s.Gend()
	}
	for _, t := range d.Texts {
		weight := ""
		if t.Bold {
			weight = ` font-weight="bold"`
		}
		whole := ""
		if t.Text != t.Whole {
			whole = "<title>" + escaped(plainText(t.Whole)) + "</title>"
		}
		fmt.Fprintf(w, `<text x="%.1f" y="%.1f" font-size="%g" fill="%s" textLength="%.1f" lengthAdjust="spacingAndGlyphs"%s>%s%s</text>`+"\n",
			t.X, t.Y, t.Size, textColour(t), t.W, weight, whole, escaped(plainText(t.Text)))
	}
	s.End()
}

func fill(colour string) string { return `fill="` + colour + `"` }

func stroke(colour string, width float64) string {
	return fmt.Sprintf(`stroke="%s" stroke-width="%g"`, colour, width)
}

func boxColour(b chart.Box) string {
	if c := boxColours[b.Kind]; c != "" {
		return c
	}
	return cardColour
}

// boxColours are those of boxes other than cards.
var boxColours = map[string]string{
	"host": hostColour, chart.BoxBar: "#8fb9b2", chart.BoxPeak: "#14776b", chart.BoxRule: "#e4e9ea",
}

// framed reports whether a box has an edge, and round corners.
func framed(b chart.Box) bool { return b.Kind == "host" || b.Kind == "stack" }

// plainText leaves out what XML cannot hold.
func plainText(text string) string { return Harmless(text) }

func escaped(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(text)
}

// mostPixels is how large a picture becomes: as much as programs that show pictures take.
const mostPixels = 60_000_000

// MapPNG writes a drawing as PNG, with two pixels for each of the drawing's where that is not too many.
func MapPNG(w io.Writer, d chart.Drawing) error {
	f, err := newFonts()
	if err != nil {
		return err
	}
	scale := min(2, math.Sqrt(mostPixels/(d.Width*d.Height)))
	c := gg.NewContext(int(math.Ceil(d.Width*scale)), int(math.Ceil(d.Height*scale)))
	c.SetHexColor(paperColour)
	c.Clear()
	c.Scale(scale, scale)
	for _, b := range d.Boxes {
		if !framed(b) {
			c.DrawRectangle(b.X, b.Y, b.W, b.H)
			c.SetHexColor(boxColour(b))
			c.Fill()
			continue
		}
		c.DrawRoundedRectangle(b.X, b.Y, b.W, b.H, corner)
		c.SetHexColor(boxColour(b))
		c.FillPreserve()
		c.SetHexColor(edgeColour)
		c.SetLineWidth(scale)
		c.Stroke()
	}
	for _, wire := range d.Wires {
		c.SetHexColor(wireColour(wire.Colour))
		c.SetLineWidth(wireWidth * scale)
		for _, p := range wire.Points {
			c.LineTo(p.X, p.Y)
		}
		c.Stroke()
		end := wire.Points[len(wire.Points)-1]
		c.DrawCircle(end.X, end.Y, dot)
		c.Fill()
	}
	c.Identity() // letters are drawn in their real size
	for _, t := range d.Texts {
		c.SetFontFace(f.face(t.Size*scale, t.Bold))
		c.SetColor(hex(textColour(t)))
		c.DrawString(plainText(t.Text), t.X*scale, t.Y*scale)
	}
	return c.EncodePNG(w)
}

// hex reads a colour of ours, #rrggbb.
func hex(text string) color.Color {
	c := color.RGBA{A: 255}
	fmt.Sscanf(text, "#%02x%02x%02x", &c.R, &c.G, &c.B)
	return c
}

// MapText writes a map for a terminal.
func MapText(w io.Writer, p Paint, m chart.Map) {
	fmt.Fprintln(w, p.Head(m.Lab)+"  "+p.Faint(m.Sum()))
	mapMarks(w, p, 2, m.Findings)
	for _, h := range m.Hosts {
		name := h.Name
		if name == "" {
			name = "on no host"
		}
		fmt.Fprintln(w, "\n"+p.Head(name))
		mapMarks(w, p, 2, h.Findings)
		if len(h.Stacks) == 0 {
			fmt.Fprintln(w, "  "+p.Faint("nothing"))
		}
		for _, st := range h.Stacks {
			fmt.Fprintln(w, "  "+p.Head(st.Name))
			for _, n := range st.Networks {
				mapLine(w, p, 4, "network", n, p.Faint)
			}
			mapMarks(w, p, 4, st.Findings)
			for _, s := range st.Services {
				mapService(w, p, s)
			}
		}
	}
}

func mapService(w io.Writer, p Paint, s chart.MappedService) {
	copies := ""
	if s.Copies > 0 {
		copies = fmt.Sprintf("  %d copies", s.Copies)
	}
	fmt.Fprintln(w, "    "+s.Name+"  "+p.Faint(shortImage(s.Image))+copies)
	for _, port := range s.Ports {
		mapLine(w, p, 6, "port", port, p.Good)
	}
	for _, f := range s.Folders {
		mapLine(w, p, 6, "folder", f, p.Plain)
	}
	for _, n := range s.Networks {
		mapLine(w, p, 6, "network", n, p.Faint)
	}
	for _, n := range s.Needs {
		mapLine(w, p, 6, "needs", fmt.Sprintf("%s %d, by %s", n.Name(), n.Port, n.By), p.Plain)
	}
	mapMarks(w, p, 6, s.Findings)
}

func mapMarks(w io.Writer, p Paint, indent int, list []chart.Mark) {
	for _, f := range list {
		tone := map[check.Severity]func(string) string{check.Error: p.Bad, check.Warning: p.Look}[f.Severity]
		if tone == nil {
			tone = p.Faint
		}
		mapLine(w, p, indent, string(f.Severity), f.String()+": "+f.Message, tone)
	}
}

// mapLine writes what is said of a thing, its kind in front.
func mapLine(w io.Writer, p Paint, indent int, kind, text string, tone func(string) string) {
	const kinds = len("warning") + 1
	head := indent + kinds
	for i, line := range p.Lines(inCell(text), head) {
		if i > 0 {
			kind = ""
		}
		fmt.Fprintf(w, "%*s%s%s\n", indent, "", p.Faint(fmt.Sprintf("%-*s", kinds, kind)), tone(line))
	}
}
