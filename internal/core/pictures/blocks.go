package pictures

import (
	"image"
	"slices"
)

// A block that moved leaves two regions that differ: where it is, and where it was. Of each region
// small tiles are looked for in the picture before. If most of those that can be told from others lie
// elsewhere by the same way, the region moved by that; where it was, what differs is what it left.

const (
	// tile is the side of a tile, in pixels.
	tile = 12
	// mostTiles is how many tiles of a region are looked for, and mostPlaces in how many places one may
	// be: what is everywhere tells nothing.
	mostTiles, mostPlaces = 200, 4
	// leastVotes is how many tiles must agree.
	leastVotes = 2
)

// sought is a tile that is looked for.
type sought struct {
	region int
	at     image.Point
}

// blocks finds regions that moved.
func (c *comparer) blocks() {
	wanted := map[uint64][]sought{}
	tiles := map[int]int{} // of each region: how many can be told from others
	for i, r := range c.regions {
		if r.Kind != Changed {
			continue
		}
		for _, at := range tilesOf(r.After) {
			if h, plain := tileHash(c.after, at); !plain {
				wanted[h] = append(wanted[h], sought{i, at})
				tiles[i]++
			}
		}
	}
	if len(wanted) == 0 {
		c.leftBehind()
		return
	}
	votes := c.look(wanted)
	for i := range c.regions {
		if by, count := best(votes[i]); count >= leastVotes && 2*count > tiles[i] {
			c.follow(i, by)
		}
	}
	c.leftBehind()
}

// Tiles overlap by half, so that a block has some wherever it begins. In a large region they are
// further apart: a few hundred tell as much as all.

// tilesOf lists where tiles of a region begin: all of a small one, some of a large one.
func tilesOf(r image.Rectangle) (list []image.Point) {
	step := tile / 2
	for (r.Dx()/step+1)*(r.Dy()/step+1) > mostTiles {
		step += tile / 2
	}
	for y := r.Min.Y; y+tile <= r.Max.Y; y += step {
		for x := r.Min.X; x+tile <= r.Max.X; x += step {
			list = append(list, image.Pt(x, y))
		}
	}
	return list
}

// The hash of a tile is a polynomial in two variables, so that it can be rolled over a picture: along
// rows, and then down.
const (
	rollX = 0x9e3779b97f4a7c15
	rollY = 0xc2b2ae3d27d4eb4f
)

// A tile of one colour is everywhere, and one of two colours in a straight line nearly so. A tile
// counts as plain unless at least as many pixels differ from its first as it is wide.

// tileHash returns the hash of a tile, and whether it is nearly of one colour: such a tile is everywhere.
func tileHash(p *pixels, at image.Point) (hash uint64, plain bool) {
	first, others := p.at[at.Y*p.width+at.X], 0
	for y := range tile {
		var row uint64
		for _, v := range p.at[(at.Y+y)*p.width+at.X:][:tile] {
			row = row*rollX + uint64(v) + 1
			if v != first {
				others++
			}
		}
		hash = hash*rollY + row
	}
	return hash, others < tile
}

// The picture before is rolled over once for all tiles of all regions: a few million steps of four
// operations.

// look rolls over the picture before, and counts for each region by which ways its tiles moved.
func (c *comparer) look(wanted map[uint64][]sought) []map[image.Point]int {
	votes := make([]map[image.Point]int, len(c.regions))
	found := map[uint64][]image.Point{}
	p := c.before
	if p.width < tile || p.height < tile {
		return votes
	}
	powX, powY := uint64(1), uint64(1)
	for range tile {
		powX, powY = powX*rollX, powY*rollY
	}
	places := p.width - tile + 1
	var rows [tile + 1][]uint64 // a ring of the last ones
	for i := range rows {
		rows[i] = make([]uint64, places)
	}
	columns := make([]uint64, places)
	for y := range p.height {
		now, oldest := rows[y%len(rows)], rows[(y+1)%len(rows)]
		var h uint64
		for x, v := range p.row(y) {
			h = h*rollX + uint64(v) + 1
			if x >= tile {
				h -= powX * (uint64(p.at[y*p.width+x-tile]) + 1)
			}
			if x >= tile-1 {
				now[x-tile+1] = h
			}
		}
		for x := range places {
			columns[x] = columns[x]*rollY + now[x]
			if y >= tile {
				columns[x] -= powY * oldest[x]
			}
			if y >= tile-1 {
				if _, ok := wanted[columns[x]]; ok && len(found[columns[x]]) <= mostPlaces {
					found[columns[x]] = append(found[columns[x]], image.Pt(x, y-tile+1))
				}
			}
		}
	}
	for h, list := range found {
		if len(list) > mostPlaces {
			continue
		}
		for _, s := range wanted[h] {
			if votes[s.region] == nil {
				votes[s.region] = map[image.Point]int{}
			}
			for _, at := range list {
				votes[s.region][s.at.Sub(at)]++
			}
		}
	}
	return votes
}

// Of two ways with as many votes, the shorter is the likelier; of two as short, always the same one is
// taken, so that a comparison is the same whenever it is made.

// best returns the way with the most votes; of several the shortest, so that it is always the same.
func best(votes map[image.Point]int) (by image.Point, count int) {
	length := func(p image.Point) int { return p.X*p.X + p.Y*p.Y }
	for way, n := range votes {
		if way == (image.Point{}) {
			continue
		}
		if n > count || n == count && (length(way) < length(by) ||
			length(way) == length(by) && (way.Y < by.Y || way.Y == by.Y && way.X < by.X)) {
			by, count = way, n
		}
	}
	return by, count
}

// follow makes a region one that moved, if nearly all of its pixels came from where they should have, or
// have gone to where they should be. The others stay changed.
func (c *comparer) follow(i int, by image.Point) {
	r := &c.regions[i]
	wrong, all := 0, 0
	var came, others image.Rectangle
	var cameAt, left []int // in the mask
	for y := r.After.Min.Y; y < r.After.Max.Y; y++ {
		for x := r.After.Min.X; x < r.After.Max.X; x++ {
			at := y*c.mask.Stride + x
			if c.mask.Pix[at] != maskChanged {
				continue
			}
			all++
			here := image.Pt(x, y)
			switch {
			case same(c.after, here, c.before, here.Sub(by)):
				cameAt, came = append(cameAt, at), came.Union(image.Rect(x, y, x+1, y+1))
			case same(c.before, here, c.after, here.Add(by)):
				left = append(left, at)
			default:
				wrong, others = wrong+1, others.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	if wrong*10 > all || came.Empty() {
		return
	}
	for _, at := range cameAt {
		c.mask.Pix[at] = maskMoved
	}
	for _, at := range left {
		c.mask.Pix[at] = 0
	}
	if wrong > 0 {
		c.add(Region{Changed, others.Add(r.Before.Min.Sub(r.After.Min)), others})
		r = &c.regions[i] // the list may have grown elsewhere
	}
	r.Kind, r.After, r.Before = Moved, came, came.Sub(by)
}

// same reports whether two pixels are there and equal.
func same(p *pixels, at image.Point, q *pixels, there image.Point) bool {
	return at.In(p.bounds()) && there.In(q.bounds()) &&
		p.at[at.Y*p.width+at.X] == q.at[there.Y*q.width+there.X]
}

// Where a block was, there is paper now, and the paper differs from the block. Nobody would call that
// a change of its own: the block is told of already.

// leftBehind drops the regions in which nothing is but the place that something left: of what was there
// before all has moved.
func (c *comparer) leftBehind() {
	var left []image.Rectangle
	for _, r := range c.regions {
		if r.Kind == Moved {
			left = append(left, r.Before)
		}
	}
	c.regions = slices.DeleteFunc(c.regions, func(r Region) bool {
		switch {
		case len(left) == 0 || r.Kind == Moved:
			return false
		case r.Kind == Added: // rows of nothing but paper, as what moved left room
			return c.space(c.after, r.After, func() { fill(c.mask, r.After, 0) })
		case r.Kind == Removed:
			return c.space(c.before, r.Before, func() { c.lost -= r.Before.Dx() * r.Before.Dy() })
		}
		gone := slices.ContainsFunc(left, func(l image.Rectangle) bool {
			return r.Before.In(l.Inset(-cell))
		})
		if !gone || !c.plain(r.After) {
			return false
		}
		for y := r.After.Min.Y; y < r.After.Max.Y; y++ {
			for x := r.After.Min.X; x < r.After.Max.X; x++ {
				c.mask.Pix[y*c.mask.Stride+x] = 0
			}
		}
		return true
	})
}

// space drops rows that are of one colour.
func (c *comparer) space(p *pixels, r image.Rectangle, drop func()) bool {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for _, v := range p.row(y) {
			if v != p.row(r.Min.Y)[0] {
				return false
			}
		}
	}
	drop()
	return true
}

// plain reports whether nearly all of a part of the picture after has one colour.
func (c *comparer) plain(r image.Rectangle) bool {
	count := map[uint32]int{}
	most := 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for _, v := range c.after.row(y)[r.Min.X:r.Max.X] {
			count[v]++
			most = max(most, count[v])
		}
	}
	return most*20 >= r.Dx()*r.Dy()*19
}
