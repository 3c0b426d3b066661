package contents

const (
	MapChildren = mapChildren
	Mask        = mask
)

// Pass calls visit with every node.
func (c *Contents) Pass(visit func(n *Node)) (*Listing, error) { return c.pass(visit) }
