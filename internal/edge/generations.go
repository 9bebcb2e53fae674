package edge

import "sync"

// generations is a bounded memory. There are two generations: once the younger one is full,
// the older one goes. So what is asked for stays, and whoever asks for everything costs
// others one answer each.
//
//	put put put | put put put | put      the first three are gone, unless somebody asked
//	    old     |    young             for one: that moves it to the young
type generations[K comparable, V any] struct {
	mutex      sync.RWMutex
	young, old map[K]V
	most       int // of a generation
}

// newGenerations returns an empty memory of twice as many as most.
func newGenerations[K comparable, V any](most int) *generations[K, V] {
	return &generations[K, V]{young: map[K]V{}, most: most}
}

// get returns what is known.
func (g *generations[K, V]) get(key K) (V, bool) {
	g.mutex.RLock()
	value, young := g.young[key]
	ok := young
	if !young {
		value, ok = g.old[key]
	}
	g.mutex.RUnlock()
	if ok && !young {
		g.put(key, value)
	}
	return value, ok
}

// put remembers something.
func (g *generations[K, V]) put(key K, value V) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if len(g.young) >= g.most {
		g.old, g.young = g.young, make(map[K]V, g.most)
	}
	g.young[key] = value
}
