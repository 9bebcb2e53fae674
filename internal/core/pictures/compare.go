package pictures

import (
	"cmp"
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"
)

// Two pictures are compared in three steps:
//
//	rows      equal rows are paired, so that what moved down by a line is not all different
//	pixels    between them, colours are compared as eyes do, and edges of letters tolerated
//	blocks    of what differs it is asked whether it was elsewhere before
//
// What is only a part of what differs is not tolerated: a letter whose edges changed and whose stem
// did too is another letter.

// Kind says what became of a region.
type Kind string

// The kinds.
const (
	Changed Kind = "changed"
	Moved   Kind = "moved"
	Added   Kind = "added"   // rows that were not there
	Removed Kind = "removed" // rows that are there no more
)

// Region is a part in which pictures differ, in pixels. Where something was added, Before is the place
// at which it was put; where something was removed, After is that.
type Region struct {
	Kind   Kind            `json:"kind"`
	Before image.Rectangle `json:"before"`
	After  image.Rectangle `json:"after"`
}

// Comparison is how two pictures differ.
type Comparison struct {
	// Share is the part of all pixels that changed, from 0 to 1: without those that moved only, and those
	// of edges of letters.
	Share   float64  `json:"share"`
	Regions []Region `json:"regions"` // from top to bottom
	// Mask marks the pixels of the picture after: 1 for changed, 2 for moved.
	Mask *image.Alpha `json:"-"`
}

// Same reports whether nobody would see a difference.
func (c Comparison) Same() bool { return len(c.Regions) == 0 }

// What pixels of the mask are.
const (
	maskChanged = 1
	maskMoved   = 2
)

// mostRegions is how many regions are told apart; of more, the rest is one.
const mostRegions = 60

// For example, a page to which a line was added at the top, and of which a price changed:
//
// 	before        after
// 	Fares         New this winter   added: its rows
// 	Oskra 6.00    Fares             moved by 24 down
// 	Tamsel 8.50   Oskra 6.20        changed: the 2
// 	              Tamsel 8.50       moved by 24 down

// Compare compares a picture with an earlier one.
func Compare(before, after image.Image) Comparison {
	a, b := pixelsOf(before), pixelsOf(after)
	c := comparer{before: a, after: b, mask: image.NewAlpha(image.Rect(0, 0, b.width, b.height))}
	if a.width != b.width {
		// Of other widths everything is another picture.
		c.add(Region{Changed, a.bounds(), b.bounds()})
		fill(c.mask, b.bounds(), maskChanged)
		return Comparison{Share: 1, Regions: c.regions, Mask: c.mask}
	}
	for _, gap := range c.rows() {
		c.gap(gap)
	}
	c.blocks()
	c.finish()
	return Comparison{Share: c.share(), Regions: c.regions, Mask: c.mask}
}

// comparer compares two pictures of one width.
type comparer struct {
	before, after *pixels
	mask          *image.Alpha
	regions       []Region
	lost          int // pixels of rows that are gone
}

// pixels is a picture as one number for each pixel.
type pixels struct {
	width, height int
	at            []uint32
}

// pixelsOf reads a picture. What is transparent lies on white.
func pixelsOf(img image.Image) *pixels {
	bounds := img.Bounds()
	p := &pixels{bounds.Dx(), bounds.Dy(), make([]uint32, bounds.Dx()*bounds.Dy())}
	flat := image.NewRGBA(image.Rect(0, 0, p.width, p.height))
	draw.Draw(flat, flat.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(flat, flat.Bounds(), img, bounds.Min, draw.Over)
	for i := range p.at {
		s := flat.Pix[4*i : 4*i+3 : 4*i+3]
		p.at[i] = uint32(s[0])<<16 | uint32(s[1])<<8 | uint32(s[2])
	}
	return p
}

func (p *pixels) bounds() image.Rectangle { return image.Rect(0, 0, p.width, p.height) }

func (p *pixels) row(y int) []uint32 { return p.at[y*p.width : (y+1)*p.width] }

// add notes a region.
func (c *comparer) add(r Region) { c.regions = append(c.regions, r) }

// fill sets a part of a mask.
func fill(mask *image.Alpha, r image.Rectangle, value uint8) {
	draw.Draw(mask, r, image.NewUniform(color.Alpha{A: value}), image.Point{}, draw.Src)
}

// run is a number of rows that are equal in both pictures.
type run struct{ before, after, rows int }

// gap is what lies between two runs: rows of both pictures.
type gap struct{ before, beforeEnd, after, afterEnd int }

// leastRun is how many rows must be equal to be paired where they moved: fewer are like each other by
// chance.
const leastRun = 6

// This is how lines of texts are compared (Cohen's patience diff). It suits pages: most rows of pixels
// are there once, but for those of nothing but paper, and these are paired with their neighbours.

// rows pairs equal rows, notes those that moved, and returns what lies between.
//
// Rows that are there once in each picture are paired first, the longest series of them that is in the
// same order in both (patience sorting); then those beside them.
func (c *comparer) rows() []gap {
	a, b := c.hashes(c.before), c.hashes(c.after)
	once := map[uint64][2]int{}
	for y, h := range a {
		seen := once[h]
		once[h] = [2]int{seen[0] + 1, y}
	}
	inAfter := map[uint64]int{}
	for _, h := range b {
		inAfter[h]++
	}
	var pairs [][2]int // rows before, in order of the rows after
	for y, h := range b {
		if there := once[h]; there[0] == 1 && inAfter[h] == 1 {
			pairs = append(pairs, [2]int{there[1], y})
		}
	}
	var runs []run
	grow := func(r run, floorBefore, floorAfter int) run {
		for r.before > floorBefore && r.after > floorAfter && a[r.before-1] == b[r.after-1] {
			r.before, r.after, r.rows = r.before-1, r.after-1, r.rows+1
		}
		for r.before+r.rows < len(a) && r.after+r.rows < len(b) && a[r.before+r.rows] == b[r.after+r.rows] {
			r.rows++
		}
		return r
	}
	// What is equal from the top stays where it is, whatever else there is.
	runs = append(runs, grow(run{}, 0, 0))
	for _, pair := range increasing(pairs) {
		last := runs[len(runs)-1]
		floorBefore, floorAfter := last.before+last.rows, last.after+last.rows
		if pair[0] < floorBefore || pair[1] < floorAfter {
			continue // it is in the run before
		}
		r := grow(run{pair[0], pair[1], 0}, floorBefore, floorAfter)
		if r.before == r.after || r.rows >= leastRun {
			runs = append(runs, r)
		}
	}
	var gaps []gap
	for i, r := range runs {
		if r.before != r.after && r.rows > 0 {
			c.moved(image.Rect(0, r.before, c.before.width, r.before+r.rows), r.after-r.before)
		}
		next := run{len(a), len(b), 0}
		if i+1 < len(runs) {
			next = runs[i+1]
		}
		if g := (gap{r.before + r.rows, next.before, r.after + r.rows, next.after}); g.before < g.beforeEnd ||
			g.after < g.afterEnd {
			gaps = append(gaps, g)
		}
	}
	return gaps
}

// moved notes that rows are further down, or up. Those that follow each other are one.
func (c *comparer) moved(before image.Rectangle, by int) {
	after := before.Add(image.Pt(0, by))
	fill(c.mask, after, maskMoved)
	if i := len(c.regions) - 1; i >= 0 {
		last := &c.regions[i]
		// With a few rows of something else between, it is one block.
		if last.Kind == Moved && last.After.Min.Y-last.Before.Min.Y == by &&
			before.Min.Y-last.Before.Max.Y < 40 {
			last.Before, last.After = last.Before.Union(before), last.After.Union(after)
			return
		}
	}
	c.add(Region{Moved, before, after})
}

// hashes gives a number for each row (FNV-1a, 64 bits, over pixels).
func (c *comparer) hashes(p *pixels) []uint64 {
	list := make([]uint64, p.height)
	for y := range list {
		h := uint64(14695981039346656037)
		for _, v := range p.row(y) {
			h = (h ^ uint64(v)) * 1099511628211
		}
		list[y] = h
	}
	return list
}

// increasing returns the longest series of pairs whose first numbers increase; the second do already.
func increasing(pairs [][2]int) [][2]int {
	var tails []int // of the shortest series of each length: the index of its last pair
	before := make([]int, len(pairs))
	for i, pair := range pairs {
		at, _ := slices.BinarySearchFunc(
			tails,
			pair[0],
			func(t, want int) int { return cmp.Compare(pairs[t][0], want) },
		)
		before[i] = -1
		if at > 0 {
			before[i] = tails[at-1]
		}
		if at == len(tails) {
			tails = append(tails, i)
		} else {
			tails[at] = i
		}
	}
	series := make([][2]int, len(tails))
	if len(tails) > 0 {
		for i, at := len(tails)-1, tails[len(tails)-1]; i >= 0; i, at = i-1, before[at] {
			series[i] = pairs[at]
		}
	}
	return series
}

// Of two gaps of different height, what differs less is the likelier pairing: a paragraph that grew at
// its end is compared from the top, one with a new beginning from the bottom.

// gap compares rows that are not equal: as many as both have pixel by pixel, from the top or from the
// bottom, whichever differs less. What one of them has more was added, or removed.
func (c *comparer) gap(g gap) {
	rowsBefore, rowsAfter := g.beforeEnd-g.before, g.afterEnd-g.after
	both := min(rowsBefore, rowsAfter)
	top, bottom := g, g
	top.beforeEnd, top.afterEnd = g.before+both, g.after+both
	bottom.before, bottom.after = g.beforeEnd-both, g.afterEnd-both
	pick, rest := top, gap{top.beforeEnd, g.beforeEnd, top.afterEnd, g.afterEnd}
	if both > 0 && rowsBefore != rowsAfter && c.unequal(bottom) < c.unequal(top) {
		pick, rest = bottom, gap{g.before, bottom.before, g.after, bottom.after}
	}
	if both > 0 {
		c.pixels(pick)
	}
	width := c.after.width
	place := func(y, end int) image.Rectangle { return image.Rect(0, y, width, end) }
	if rest.after < rest.afterEnd {
		fill(c.mask, place(rest.after, rest.afterEnd), maskChanged)
		c.add(Region{Added, place(rest.before, rest.before), place(rest.after, rest.afterEnd)})
	}
	if rest.before < rest.beforeEnd {
		c.lost += width * (rest.beforeEnd - rest.before)
		c.add(Region{Removed, place(rest.before, rest.beforeEnd), place(rest.after, rest.after)})
	}
}

// unequal counts pixels that are not the same.
func (c *comparer) unequal(g gap) (count int) {
	for i := range g.afterEnd - g.after {
		a, b := c.before.row(g.before+i), c.after.row(g.after+i)
		for x := range b {
			if a[x] != b[x] {
				count++
			}
		}
	}
	return count
}

// cell is the side of the squares in which differing pixels are gathered.
const cell = 8

// Edges of letters are drawn a little differently when what lies beside them changes. A region of nothing but
// such pixels is none; one with a single pixel that is no edge counts as a whole, since a comma is mostly
// edges.

// pixels compares as many rows of both pictures, and notes the regions in which they differ.
func (c *comparer) pixels(g gap) {
	rows, width := g.afterEnd-g.after, c.after.width
	across, down := (width+cell-1)/cell, (rows+cell-1)/cell
	type square struct{ solid, edge int }
	squares := make([]square, across*down)
	differs := make([]bool, rows*width)
	for i := range rows {
		a, b := c.before.row(g.before+i), c.after.row(g.after+i)
		for x := range width {
			if a[x] == b[x] || distance(a[x], b[x]) <= seen {
				continue
			}
			differs[i*width+x] = true
			s := &squares[i/cell*across+x/cell]
			if distance(a[x], b[x]) <= smoothed &&
				(c.before.isEdge(x, g.before+i) || c.after.isEdge(x, g.after+i)) {
				s.edge++
			} else {
				s.solid++
			}
		}
	}
	// Squares that touch, or nearly, are one region.
	const near = 2
	seen := make([]bool, len(squares))
	for start := range squares {
		if seen[start] || squares[start].solid+squares[start].edge == 0 {
			continue
		}
		seen[start] = true
		waiting, solid := []int{start}, 0
		var members []int
		for len(waiting) > 0 {
			at := waiting[len(waiting)-1]
			waiting = waiting[:len(waiting)-1]
			members = append(members, at)
			solid += squares[at].solid
			for dy := -near; dy <= near; dy++ {
				for dx := -near; dx <= near; dx++ {
					x, y := at%across+dx, at/across+dy
					if x < 0 || y < 0 || x >= across || y >= down {
						continue
					}
					if next := y*across + x; !seen[next] && squares[next].solid+squares[next].edge > 0 {
						seen[next] = true
						waiting = append(waiting, next)
					}
				}
			}
		}
		if solid == 0 {
			continue // nothing but edges of letters
		}
		var found image.Rectangle
		for _, at := range members {
			x, y := at%across*cell, at/across*cell
			found = found.Union(
				c.mark(differs, width, g.after, image.Rect(x, y, min(x+cell, width), min(y+cell, rows))),
			)
		}
		c.add(Region{Changed, found.Add(image.Pt(0, g.before-g.after)), found})
	}
}

// mark marks the pixels of a square that differ, and returns what they cover.
func (c *comparer) mark(differs []bool, width, top int, square image.Rectangle) (found image.Rectangle) {
	for y := square.Min.Y; y < square.Max.Y; y++ {
		for x := square.Min.X; x < square.Max.X; x++ {
			if differs[y*width+x] {
				c.mask.Pix[(top+y)*c.mask.Stride+x] = maskChanged
				found = found.Union(image.Rect(x, top+y, x+1, top+y+1))
			}
		}
	}
	return found
}

const (
	// seen is the distance from which on one sees that two colours differ.
	seen = 0.1
	// smoothed is by how much a pixel may differ that smooths an edge. A stem of a letter where there was
	// paper differs by more: the tail of a comma is nothing but edges, and a full stop has none.
	smoothed = 0.4
)

// distance is how far two colours are from each other, from 0 to 1, the distance between black and white: in
// YIQ, whose parts are weighed as eyes do (Kotsarenko and Ramos, Measuring perceived color difference using
// YIQ NTSC transmission color space in mobile applications, 2010).
func distance(a, b uint32) float64 {
	const most = 35215.0
	r, g, bl := part(a, 16)-part(b, 16), part(a, 8)-part(b, 8), part(a, 0)-part(b, 0)
	y := r*0.29889531 + g*0.58662247 + bl*0.11448223
	i := r*0.59597799 - g*0.27417610 - bl*0.32180189
	q := r*0.21147017 - g*0.52261711 + bl*0.31114694
	return math.Sqrt((0.5053*y*y + 0.299*i*i + 0.1957*q*q) / most)
}

func part(v uint32, shift uint) float64 { return float64(v >> shift & 0xff) }

// brightness is Y of YIQ.
func brightness(v uint32) float64 {
	return part(v, 16)*0.29889531 + part(v, 8)*0.58662247 + part(v, 0)*0.11448223
}

// isEdge reports whether a pixel looks like one that smooths an edge: it lies between a darker and a
// brighter neighbour, and each of those in a plane of its own colour (after Vyšniauskas, Anti-aliased
// Pixel and Intensity Slope Detector, 2009).
func (p *pixels) isEdge(x, y int) bool {
	own, equal := brightness(p.at[y*p.width+x]), 0
	var darkest, brightest float64
	var dark, bright image.Point
	for dy := -1; dy <= 1; dy++ {
		for dx := -1; dx <= 1; dx++ {
			nx, ny := x+dx, y+dy
			if dx == 0 && dy == 0 || nx < 0 || ny < 0 || nx >= p.width || ny >= p.height {
				continue
			}
			switch by := brightness(p.at[ny*p.width+nx]) - own; {
			case by == 0:
				if equal++; equal > 2 {
					return false // it is a part of a plane
				}
			case by < darkest:
				darkest, dark = by, image.Pt(nx, ny)
			case by > brightest:
				brightest, bright = by, image.Pt(nx, ny)
			}
		}
	}
	return darkest < 0 && brightest > 0 && (p.inPlane(dark) || p.inPlane(bright))
}

// inPlane reports whether most neighbours of a pixel have its colour.
func (p *pixels) inPlane(at image.Point) bool {
	own, equal := p.at[at.Y*p.width+at.X], 0
	for y := max(0, at.Y-1); y <= min(p.height-1, at.Y+1); y++ {
		for x := max(0, at.X-1); x <= min(p.width-1, at.X+1); x++ {
			if p.at[y*p.width+x] == own {
				equal++
			}
		}
	}
	return equal > 3 // itself and three others
}

// share is the part of all pixels that changed.
func (c *comparer) share() float64 {
	changed := c.lost
	for _, v := range c.mask.Pix {
		if v == maskChanged {
			changed++
		}
	}
	return float64(changed) / float64(max(1, len(c.after.at)+c.lost))
}

// rounding is how many rows may come or go where things moved: what lies at half a pixel is drawn at one
// or at the next.
const rounding = 2

// round drops rows that come or go by rounding only, and makes one of what moved by nearly as much.
func (c *comparer) round() {
	if !slices.ContainsFunc(c.regions, func(r Region) bool { return r.Kind == Moved }) {
		return
	}
	var list []Region
	for _, r := range c.regions {
		switch {
		case r.Kind == Added && r.After.Dy() <= rounding:
			fill(c.mask, r.After, maskMoved)
			continue
		case r.Kind == Removed && r.Before.Dy() <= rounding:
			c.lost -= r.Before.Dx() * r.Before.Dy()
			continue
		}
		if i := len(list) - 1; i >= 0 && r.Kind == Moved && list[i].Kind == Moved && list[i].follows(r) {
			list[i].After = list[i].After.Union(r.After)
			list[i].Before = list[i].After.Add(list[i].Before.Min.Sub(list[i].After.Min))
			continue
		}
		list = append(list, r)
	}
	c.regions = list
}

// follows reports whether what moved goes on in another region, which moved by nearly as much.
func (r Region) follows(next Region) bool {
	const near = 40
	by, other := r.After.Min.Sub(r.Before.Min), next.After.Min.Sub(next.Before.Min)
	return by.X == other.X && by.Y-other.Y <= rounding && other.Y-by.Y <= rounding &&
		next.After.Min.Y-r.After.Max.Y < near &&
		r.After.Min.X < next.After.Max.X && next.After.Min.X < r.After.Max.X
}

// finish puts regions in order, and makes one of the last ones if there are very many.
func (c *comparer) finish() {
	defer c.bound()
	slices.SortStableFunc(c.regions, func(a, b Region) int {
		return cmp.Or(cmp.Compare(a.After.Min.Y, b.After.Min.Y), cmp.Compare(a.After.Min.X, b.After.Min.X),
			cmp.Compare(a.After.Max.Y, b.After.Max.Y))
	})
	c.round()
}

// bound makes one of the last regions if there are very many.
func (c *comparer) bound() {
	if len(c.regions) > mostRegions {
		last := c.regions[mostRegions-1]
		for _, r := range c.regions[mostRegions:] {
			last = Region{Changed, last.Before.Union(r.Before), last.After.Union(r.After)}
		}
		c.regions = append(c.regions[:mostRegions-1], last)
	}
}

// The page stays visible, pale, so that one sees where on it something is.

// Difference draws a picture of what changed: the picture after, pale, with changed pixels in one colour
// and moved ones in another.
func Difference(after image.Image, c Comparison) *image.NRGBA {
	bounds := after.Bounds()
	out := image.NewNRGBA(image.Rect(0, 0, bounds.Dx(), bounds.Dy()))
	for y := range bounds.Dy() {
		for x := range bounds.Dx() {
			grey := color.GrayModel.Convert(after.At(bounds.Min.X+x, bounds.Min.Y+y)).(color.Gray).Y
			pale := 255 - (255-grey)/4
			v := color.NRGBA{pale, pale, pale, 255}
			if (image.Point{x, y}).In(c.Mask.Rect) {
				switch c.Mask.Pix[y*c.Mask.Stride+x] {
				case maskChanged:
					v = color.NRGBA{0xc8, 0x32, 0x1e, 255}
				case maskMoved:
					v = color.NRGBA{pale - pale/6, pale - pale/14, 255 - (255-pale)/3, 255}
				}
			}
			out.SetNRGBA(x, y, v)
		}
	}
	return out
}
