package edge

import "time"

// Ready returns how many answers are ready.
func (n *Node) Ready() int {
	m := n.objects.made
	m.mutex.RLock()
	defer m.mutex.RUnlock()
	return len(m.young) + len(m.old)
}

// LookAgainAfter sets when variants are looked for again of which the store said nothing.
// Call it before the node follows its store.
func (n *Node) LookAgainAfter(after time.Duration) { n.objects.worker.again = after }
