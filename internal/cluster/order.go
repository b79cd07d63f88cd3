package cluster

import "tovik.example/tovik/internal/presence"

// obey carries out an order about a link.
func (n *Node) obey(r *realm, effect presence.Effect) {
	switch e := effect.(type) {
	case presence.Cut:
		if c := r.carrier.links[e.Link]; c != nil {
			why, remember := CloseCut, presence.ReasonLost
			if e.Ended {
				why, remember = CloseEnded, presence.NoReason
			}
			n.close(r, c, remember)
			n.do(Close{Conn: c.conn, Why: why, Cut: e})
		}
	case presence.AskBeat:
		c := r.carrier.links[e.Link]
		if c == nil {
			n.toOwner(r, Say{presence.LinkLost{Link: e.Link}})
			return
		}
		if c.unanswered == 0 {
			c.unanswered = n.mono()
		}
		n.toOwner(r, Say{presence.BeatWritten{To: e.Link, Probe: e.Probe}})
		n.do(WriteBeat{c.conn, e.Probe})
	case presence.TakenOut:
		if c := r.carrier.links[e.Link]; c != nil {
			c.leave(e.Room)
			if !r.leaves(c, e.Room) { // otherwise the answer says so
				n.do(Tell{c.conn, e})
			}
		}
	case presence.WarnExpiry:
		n.tellOne(r, e.Link, e)
	case presence.OwnChanged:
		for _, c := range n.tellAll(r, e.Links, e) {
			c.fact.Hidden, c.fact.Told.Set = e.Hidden, e.Set
		}
	case presence.AskAnswered:
		for _, c := range n.tellAll(r, e.Links, e) {
			c.asksNoLonger(e.Room)
			if e.Outcome == presence.Admitted {
				c.enter(e.Room)
			}
		}
	case presence.InvitationAnswered:
		n.tellAll(r, e.Links, e)
	case presence.PassEnded:
		n.tellAll(r, e.Links, e)
	case presence.InvitationsChanged:
		for _, c := range n.tellAll(r, e.Links, e) {
			c.fact.Told.Invitations = e.IDs()
		}
	}
}

// tellOne tells the client of a link an effect. It returns nil if the link is gone.
func (n *Node) tellOne(r *realm, link presence.LinkID, effect presence.Effect) *carried {
	c := r.carrier.links[link]
	if c != nil {
		n.do(Tell{c.conn, effect})
	}
	return c
}

func (n *Node) tellAll(r *realm, links []presence.LinkID, effect presence.Effect) (told []*carried) {
	for _, link := range links {
		if c := n.tellOne(r, link, effect); c != nil {
			told = append(told, c)
		}
	}
	return told
}
