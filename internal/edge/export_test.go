package edge

// Ready returns how many answers are ready.
func (n *Node) Ready() int {
	m := n.objects.made
	m.mutex.RLock()
	defer m.mutex.RUnlock()
	return len(m.young) + len(m.old)
}
