package chart

import (
	"math"
	"slices"
	"strconv"

	"proudlantern.example/lantern/core/check"
)

// Tone is what a colour says.
type Tone string

// Tones of texts.
const (
	Ink     Tone = "ink"
	Faint   Tone = "faint"
	Way     Tone = "way" // a port that leads in
	Error   Tone = "error"
	Warning Tone = "warning"
)

// Box is a rectangle, in pixels.
type Box struct {
	X, Y, W, H float64
	Kind       string // host, or stack
}

// Text is a line of text. Y is that of its base line.
type Text struct {
	X, Y, W float64 // W: how wide it is
	Size    float64 // of the font, in pixels
	Bold    bool
	Tone    Tone
	Wire    int    // the colour of that wire in place of a tone; 0: none
	Text    string // with … where it was too long
	Whole   string // as it is
}

// Point is a place on the page.
type Point struct{ X, Y float64 }

// Wire is a line from a service to one that it needs, along the lanes between the stacks.
type Wire struct {
	From, To string // STACK/SERVICE
	Colour   int    // from 1 on; wires to the same service have the same
	Points   []Point
}

// Drawing is a page.
type Drawing struct {
	Width, Height float64
	Boxes         []Box
	Wires         []Wire
	Texts         []Text
}

// Measure returns how wide a text is, in pixels.
type Measure func(text string, size float64, bold bool) float64

// Sizes of the page, in pixels.
const (
	margin      = 24.0
	pad         = 12.0 // inside of boxes
	gap         = 14.0 // between stacks
	lane        = 7.0  // between wires side by side
	titleSize   = 20.0
	headSize    = 15.0
	nameSize    = 13.0
	smallSize   = 11.0
	leading     = 1.42 // of lines, by the size of their font
	narrowCard  = 190.0
	widestCard  = 340.0
	wideAsHigh  = 1.5 // what a page should be like
	mostAbreast = 12  // stacks
)

// row is a line of text inside of a card.
type row struct {
	text   Text
	indent float64
	above  float64 // free room
	need   string  // it is about a wire to that service
	name   string  // it is the name of that service: wires to it end here
}

func (r row) height() float64 { return r.above + math.Ceil(r.text.Size*leading) }

// card is a stack that is laid out.
type card struct {
	host, column int
	rows         []row
	x, y, h      float64
}

// page is what is being laid out.
type page struct {
	Drawing
	m       Map
	measure Measure
	width   float64 // of cards
	cards   []*card
	places  map[string]*card // by service
	colours map[string]int   // of wires, by the service that they lead to

	lanes     map[[2]int][]string // by host and column: the services that wires in there lead to
	corridors map[int][]string    // by host: the same, above the stacks
	bus       []string            // the same, beside the hosts
	tops      []float64           // of the corridors
	right     float64             // of the hosts
}

// Draw lays a map out: hosts below each other, in each its stacks in columns, and wires in the lanes between.
func Draw(m Map, measure Measure) Drawing {
	var best *page
	for columns := 1; columns <= mostAbreast; columns++ {
		p := &page{m: m, measure: measure, colours: map[string]int{}}
		p.lay(columns)
		if best == nil || p.misshapen() < best.misshapen() {
			best = p
		}
	}
	return best.Drawing
}

// misshapen says how far a page is from a good shape.
func (p *page) misshapen() float64 { return math.Abs(math.Log(p.Width / p.Height / wideAsHigh)) }

func (p *page) lay(columns int) {
	p.width = narrowCard
	for i, h := range p.m.Hosts {
		for _, st := range h.Stacks {
			c := &card{host: i, rows: p.rowsOf(st)}
			for _, r := range c.rows {
				c.h += r.height()
				p.width = max(p.width, min(widestCard, r.indent+p.measure(r.text.Whole, r.text.Size, r.text.Bold)+2*pad))
			}
			c.h += 1.5 * pad
			p.cards = append(p.cards, c)
		}
	}
	p.width = math.Ceil(p.width)
	p.pack(columns)
	p.assign()
	y := p.title()
	for i := range p.m.Hosts {
		y = p.host(i, y)
	}
	p.right = margin
	for _, b := range p.Boxes {
		p.right = max(p.right, b.X+b.W)
	}
	for i := range p.Boxes {
		if p.Boxes[i].Kind == "host" {
			p.Boxes[i].W = p.right - p.Boxes[i].X
		}
	}
	p.wires()
	p.Width = p.right + margin
	if len(p.bus) > 0 {
		p.Width += float64(len(p.bus)+1) * lane
	}
	for _, t := range p.Texts {
		p.Width = max(p.Width, t.X+t.W+margin)
	}
	p.Height = p.legend(y)
}

// rowsOf returns what stands in the card of a stack.
func (p *page) rowsOf(st MappedStack) []row {
	say := func(text string, size float64, bold bool, tone Tone, indent float64) row {
		return row{text: Text{Size: size, Bold: bold, Tone: tone, Whole: text}, indent: indent}
	}
	marks := func(list []Mark, indent float64) (rows []row) {
		for _, f := range list {
			rows = append(rows, say(string(f.Severity)+" "+f.String(), smallSize, true, toneOf(f.Severity), indent))
		}
		return rows
	}
	rows := []row{say(st.Name, headSize, true, Ink, 0)}
	for _, n := range st.Networks {
		rows = append(rows, say("network "+n, smallSize, false, Faint, 0))
	}
	rows = append(rows, marks(st.Findings, 0)...)
	for _, s := range st.Services {
		name := say(s.Name, nameSize, true, Ink, 0)
		name.name, name.above = st.Name+"/"+s.Name, pad/2
		rows = append(rows, name, say(s.Image, smallSize, false, Faint, pad))
		if s.Copies > 0 {
			rows = append(rows, say(strconv.Itoa(s.Copies)+" copies", smallSize, false, Ink, pad))
		}
		for _, port := range s.Ports {
			rows = append(rows, say(port, smallSize, true, Way, pad))
		}
		for _, folder := range s.Folders {
			rows = append(rows, say(folder, smallSize, false, Ink, pad))
		}
		for _, n := range s.Networks {
			rows = append(rows, say("network "+n, smallSize, false, Faint, pad))
		}
		for _, n := range s.Needs {
			r := say("needs "+n.Name()+" "+strconv.Itoa(n.Port), smallSize, false, Ink, pad)
			r.need, r.name = n.Name(), ""
			rows = append(rows, r)
		}
		rows = append(rows, marks(s.Findings, pad)...)
	}
	return rows
}

func toneOf(s check.Severity) Tone {
	switch s {
	case check.Error:
		return Error
	case check.Warning:
		return Warning
	}
	return Faint
}

// pack puts each card into the column of its host that is the shortest yet.
func (p *page) pack(columns int) {
	height := map[[2]int]float64{}
	for _, c := range p.cards {
		for i := 1; i < columns; i++ {
			if height[[2]int{c.host, i}] < height[[2]int{c.host, c.column}] {
				c.column = i
			}
		}
		c.y = height[[2]int{c.host, c.column}]
		height[[2]int{c.host, c.column}] += c.h + gap
	}
}

// at returns the card of a service; nil where it is not on the map.
func (p *page) at(service string) *card {
	if p.places == nil {
		p.places = map[string]*card{}
		for _, c := range p.cards {
			for _, r := range c.rows {
				if r.name != "" {
					p.places[r.name] = c
				}
			}
		}
	}
	return p.places[service]
}

// assign gives each wire its lanes. Wires to one service share theirs.
func (p *page) assign() {
	p.lanes, p.corridors = map[[2]int][]string{}, map[int][]string{}
	add := func(list []string, to string) []string {
		if slices.Contains(list, to) {
			return list
		}
		return append(list, to)
	}
	for _, from := range p.cards {
		for _, r := range from.rows {
			to := p.at(r.need)
			if r.need == "" || to == nil {
				continue
			}
			if p.colours[r.need] == 0 {
				p.colours[r.need] = len(p.colours) + 1
			}
			a, b := [2]int{from.host, from.column}, [2]int{to.host, to.column}
			p.lanes[a], p.lanes[b] = add(p.lanes[a], r.need), add(p.lanes[b], r.need)
			if a == b {
				continue
			}
			p.corridors[from.host] = add(p.corridors[from.host], r.need)
			p.corridors[to.host] = add(p.corridors[to.host], r.need)
			if from.host != to.host {
				p.bus = add(p.bus, r.need)
			}
		}
	}
}

// write adds a text; one that is wider than there is room gets a sign at its end.
func (p *page) write(x, y, room float64, t Text) float64 {
	t.X, t.Y, t.Text = x, y+t.Size, t.Whole
	t.W = p.measure(t.Text, t.Size, t.Bold)
	for letters := []rune(t.Whole); t.W > room && len(letters) > 1; t.W = p.measure(t.Text, t.Size, t.Bold) {
		letters = letters[:len(letters)-1]
		t.Text = string(letters) + "…"
	}
	p.Texts = append(p.Texts, t)
	return y + math.Ceil(t.Size*leading)
}

// title writes what the page is of, and returns where it goes on below.
func (p *page) title() float64 {
	y := p.write(margin, margin, math.Inf(1), Text{Size: titleSize, Bold: true, Tone: Ink, Whole: p.m.Lab})
	y = p.write(margin, y, math.Inf(1), Text{Size: nameSize, Tone: Faint, Whole: p.m.Sum()})
	y = p.marks(margin, y, p.m.Findings)
	if len(p.cards) == 0 {
		y = p.write(margin, y+gap, math.Inf(1), Text{Size: nameSize, Tone: Ink, Whole: "No stack is declared yet."})
	}
	return y + gap
}

func (p *page) marks(x, y float64, list []Mark) float64 {
	for _, f := range list {
		y = p.write(x, y, math.Inf(1), Text{
			Size: smallSize, Bold: true, Tone: toneOf(f.Severity), Whole: string(f.Severity) + " " + f.String(),
		})
	}
	return y
}

// gutter is how wide the space right of a column is.
func (p *page) gutter(host, column int) float64 {
	return gap + float64(len(p.lanes[[2]int{host, column}]))*lane
}

// host lays out a host, and returns where the page goes on below.
func (p *page) host(i int, top float64) float64 {
	h := p.m.Hosts[i]
	name := h.Name
	if name == "" {
		name = "on no host"
	}
	y := p.write(margin+pad, top+pad, math.Inf(1), Text{Size: headSize, Bold: true, Tone: Ink, Whole: name})
	if h.Address != h.Name && h.Address != "localhost" && h.Address != "" {
		y = p.write(margin+pad, y, math.Inf(1), Text{Size: smallSize, Tone: Faint, Whole: h.Address})
	}
	y = p.marks(margin+pad, y, h.Findings)
	p.tops = append(p.tops, y)
	y += float64(len(p.corridors[i]))*lane + pad
	x, bottom, right := margin+pad, y, margin+2*pad
	for _, t := range p.Texts {
		if t.Y > top {
			right = max(right, t.X+t.W+pad)
		}
	}
	for column := range mostAbreast {
		used := false
		for _, c := range p.cards {
			if c.host != i || c.column != column {
				continue
			}
			used = true
			c.x, c.y = x, c.y+y
			bottom = max(bottom, c.y+c.h)
			p.draw(c)
		}
		if used {
			x += p.width + p.gutter(i, column)
			right = max(right, x)
		}
	}
	host := Box{margin, top, right - margin, bottom + pad - top, "host"}
	p.Boxes = slices.Insert(p.Boxes, 0, host)
	return top + host.H + gap
}

// draw draws a card.
func (p *page) draw(c *card) {
	p.Boxes = append(p.Boxes, Box{c.x, c.y, p.width, c.h, "stack"})
	y := c.y + pad/2
	for _, r := range c.rows {
		t := r.text
		if r.need != "" {
			t.Wire = p.colours[r.need]
		}
		y = p.write(c.x+pad+r.indent, y+r.above, p.width-2*pad-r.indent, t)
	}
}

// middle returns how far down the middle of a row of a card is.
func (c *card) middle(of int) float64 {
	y := c.y + pad/2
	for _, r := range c.rows[:of] {
		y += r.height()
	}
	return y + c.rows[of].above + c.rows[of].text.Size*0.62 // between the base line and the tops of small letters
}

// wires draws all wires along their lanes.
func (p *page) wires() {
	x := func(c *card, to string) float64 {
		i := slices.Index(p.lanes[[2]int{c.host, c.column}], to)
		return c.x + p.width + lane + float64(i)*lane
	}
	above := func(host int, to string) float64 {
		return p.tops[host] + float64(slices.Index(p.corridors[host], to))*lane + lane/2
	}
	for _, from := range p.cards {
		service := ""
		for i, r := range from.rows {
			if r.name != "" {
				service = r.name
			}
			to := p.at(r.need)
			if r.need == "" || to == nil {
				continue
			}
			named := slices.IndexFunc(to.rows, func(o row) bool { return o.name == r.need })
			start, end := Point{from.x + p.width, from.middle(i)}, Point{to.x + p.width, to.middle(named)}
			xa, xb := x(from, r.need), x(to, r.need)
			points := []Point{start, {xa, start.Y}}
			if from.host != to.host || from.column != to.column {
				a, b := above(from.host, r.need), above(to.host, r.need)
				points = append(points, Point{xa, a})
				if from.host != to.host {
					bus := p.right + lane + float64(slices.Index(p.bus, r.need))*lane
					points = append(points, Point{bus, a}, Point{bus, b})
				}
				points = append(points, Point{xb, b})
			}
			points = append(points, Point{xb, end.Y}, end)
			p.Wires = append(p.Wires, Wire{service, r.need, p.colours[r.need], points})
		}
	}
}

// legend says how the picture is read, and returns how high the page is.
func (p *page) legend(y float64) float64 {
	if len(p.cards) > 0 {
		y = p.write(margin, y, math.Inf(1), Text{Size: smallSize, Bold: true, Tone: Way, Whole: "8710 → 80"})
		after := p.Texts[len(p.Texts)-1]
		p.write(after.X+after.W+pad, after.Y-after.Size, math.Inf(1), Text{
			Size: smallSize, Tone: Faint,
			Whole: "port of the host → port inside.   Lines go from services to those that they need, and end there in a dot.",
		})
		last := p.Texts[len(p.Texts)-1]
		p.Width = max(p.Width, last.X+last.W+margin)
	}
	return y + margin/2
}
