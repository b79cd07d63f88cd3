package cluster

import (
	"maps"
	"slices"

	"tovik.example/tovik/internal/presence"
)

// reporting is a report of a realm's links that is sent in parts.
type reporting struct {
	realm *realm
	owner Known
	links []*carried // that are not reported yet
	read  uint64
	begun bool
}

// report begins to report all links to the owner. When it has, it repeats the requests that wait.
func (n *Node) report(r *realm) {
	is := &reporting{realm: r, owner: r.known, read: n.of(r.known.Owner).got}
	for _, links := range []map[presence.LinkID]*carried{r.carrier.gone, r.carrier.links} {
		for _, link := range sortedLinks(links) {
			is.links = append(is.links, links[link])
		}
	}
	out := &n.of(r.known.Owner).out
	out.reports = slices.DeleteFunc(out.reports, func(other *reporting) bool { return other.realm == r })
	out.reports = append(out.reports, is)
	r.lists.stale()
}

// reportPart sends the next part of a report. It returns true after the last one.
func (n *Node) reportPart(to Name, is *reporting) (over bool) {
	r := is.realm
	if r.known != is.owner {
		return true // it will be reported to the next owner
	}
	part := is.links[:min(len(is.links), 1+n.Credit/8/factWeight)]
	is.links = is.links[len(part):]
	report := Report{Read: is.read, First: !is.begun, Last: len(is.links) == 0}
	is.begun = true
	n.confirm(r, part)
	for _, c := range part {
		report.Facts = append(report.Facts, n.fact(r, c))
	}
	last := n.say(to, ToOwner{r.id, report})
	if !report.Last {
		return false
	}
	r.reported.epoch, r.reported.last = is.owner.Epoch, last
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		n.toOwner(r, r.carrier.requests[attempt].request)
	}
	n.follow(r)
	return true
}

func (n *Node) fact(r *realm, c *carried) presence.Fact {
	f := c.fact
	f.Heard, f.Active, f.Unanswered = n.mono()-c.heard, n.mono()-c.active, -1
	if c.unanswered > 0 {
		f.Unanswered = n.mono() - c.unanswered
	}
	f.Session.Rooms = slices.Clone(f.Session.Rooms)
	f.Reported = nil
	for _, room := range slices.Sorted(maps.Keys(c.typing)) {
		is := c.typing[room].RoomReports
		is.Ago = n.mono() - c.typing[room].at
		f.Reported = append(f.Reported, is)
	}
	f.Confirmed = c.confirmed
	return f
}

// confirm looks up which of the links' openings are on record by now.
func (n *Node) confirm(r *realm, links []*carried) {
	unconfirmed := map[presence.SessionID][]*carried{}
	for _, c := range links {
		if !c.confirmed {
			unconfirmed[c.link.Session] = append(unconfirmed[c.link.Session], c)
		}
	}
	if len(unconfirmed) == 0 {
		return
	}
	for _, session := range n.Records.Confirmed(r.id, slices.Sorted(maps.Keys(unconfirmed))) {
		for _, c := range unconfirmed[session] {
			c.confirmed = true
		}
	}
}

// mostConfirmed is how many openings are looked up between two heartbeats.
const mostConfirmed = 1000

// confirmAhead looks up openings ahead of the next report, which must be quick.
func (n *Node) confirmAhead(r *realm) {
	is := &r.carrier
	next := is.unconfirmed[:min(mostConfirmed, len(is.unconfirmed))]
	is.unconfirmed = is.unconfirmed[len(next):]
	next = slices.DeleteFunc(slices.Clone(next), func(c *carried) bool { return is.links[c.link] != c })
	n.confirm(r, next)
	for _, c := range next {
		if !c.confirmed {
			is.unconfirmed = append(is.unconfirmed, c)
		}
	}
}
