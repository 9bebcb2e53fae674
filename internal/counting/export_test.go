package counting

import "context"

// Save notes what was counted.
func (c *Counter) SaveAll() { c.save() }

// PublishAll writes all records.
func (c *Counter) PublishAll(ctx context.Context) { c.turnAll(); c.publish(ctx, true) }

// Share finds the salt of the others.
func (c *Counter) Share(ctx context.Context) { c.share(ctx) }

// SaltName is the name of the salt of now.
func (c *Counter) SaltName() string { return c.numbering(c.Now()).name }

// Sites is how many sites are held, and Waiting how many records wait.
func (c *Counter) Sites() int { return len(c.list()) }

// Waiting is how many records wait for the store.
func (c *Counter) Waiting() int { return len(c.post.keys) }
