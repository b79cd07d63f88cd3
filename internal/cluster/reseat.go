package cluster

import (
	"maps"
	"slices"

	"tovik.example/tovik/internal/presence"
)

// reseat handles a part of a carrier's report.
func (n *Node) reseat(o *owner, from Name, report Report) {
	carried := o.reported[from]
	if report.First {
		carried = map[presence.LinkID]bool{}
		o.reported[from] = carried
	}
	if carried == nil {
		return // the first part was lost, and the gap asks for another report
	}
	for _, f := range report.Facts {
		link := presence.LinkID{Session: f.Session.ID, Number: f.Session.Link}
		carried[link] = carried[link] || f.Lost == presence.NoReason
		if f.Lost == presence.NoReason { // its client may have to be told something
			o.links[link] = carriedBy{from, n.peers[from].out.said}
		}
		seat := o.engine.Reseat(f)
		n.note("%s reports %s over %x (lost: %q, confirmed: %v): %s", from, link.Session, link.Number, f.Lost, f.Confirmed, seat)
		switch seat {
		case presence.SeatKept, presence.SeatAdopted, presence.SeatCreated:
			o.links[link] = carriedBy{from, n.peers[from].out.said}
		default:
			if f.Lost == presence.NoReason {
				n.down(o, from, Order{presence.Cut{Link: link, Reason: presence.ReasonReplaced, Ended: false}})
			}
			delete(o.links, link)
		}
	}
	if !report.Last {
		return
	}
	o.seated[from] = true
	delete(o.reported, from)
	// A link that the report does not name is lost, unless it was given after the message up to
	// which the carrier had read.
	for _, link := range o.linksOf(func(link presence.LinkID, by carriedBy) bool {
		return by.carrier == from && !carried[link] && by.sent <= report.Read
	}) {
		_, _ = o.engine.Give(presence.LinkLost{Link: link})
		delete(o.links, link)
	}
	if o.phase == barrier {
		delete(o.missing, from)
		if len(o.missing) == 0 {
			n.activate(o)
		}
	}
}

// unseat makes the links of a carrier silent, because it is not heard.
func (n *Node) unseat(o *owner, name Name) {
	if o.phase < barrier {
		return
	}
	for _, link := range o.linksOf(func(_ presence.LinkID, by carriedBy) bool { return by.carrier == name }) {
		o.engine.Unseat(link)
	}
}

// linksOf returns those of the carried links that are wanted, in order.
func (o *owner) linksOf(wanted func(presence.LinkID, carriedBy) bool) (links []presence.LinkID) {
	for link, by := range o.links {
		if wanted(link, by) {
			links = append(links, link)
		}
	}
	slices.SortFunc(links, compareLinks)
	return links
}

// forget forgets which links a former incarnation of a carrier carried. They stay silent: a report of
// the new incarnation, which does not name them, must not end them.
func (o *owner) forget(name Name) {
	maps.DeleteFunc(o.links, func(_ presence.LinkID, by carriedBy) bool { return by.carrier == name })
	delete(o.seated, name)
	delete(o.reported, name)
	o.early = slices.DeleteFunc(o.early, func(q queued) bool { return q.from == name })
	delete(o.follows, name)
}
