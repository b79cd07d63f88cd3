package realm

import (
	"fmt"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// policyDocument is what applies in a room, with what that means in sentences.
func policyDocument(p *presence.Policy, r *presence.RoomPolicy) wire.Policy {
	doc := wire.Policy{
		GraceClosing: r.GraceClosing.Milliseconds(), GraceLost: r.GraceLost.Milliseconds(), GraceBackground: max(r.GraceBackground, r.GraceLost).Milliseconds(),
		TypingExpires: r.TypingExpires.Milliseconds(), CountEvery: r.CountEvery.Milliseconds(), Capacity: r.Capacity, MembersMax: r.MembersMax,
		BeatEvery: p.BeatEvery.Milliseconds(), Silence: p.Silence().Milliseconds(), IdleAfter: p.IdleAfter.Milliseconds(), Lease: p.Lease.Milliseconds(), Second: string(p.SecondSession),
		Ghost: p.LongestGhostIn(r).Milliseconds(),
	}
	doc.Words = []string{
		fmt.Sprintf("Who closes or reloads a page is shown for another %s; a reload comes back within that and is not noticed.", short(r.GraceClosing)),
		fmt.Sprintf("Whose link is lost without a word is shown for another %s, and for %s when the page was hidden.", short(r.GraceLost), short(max(r.GraceBackground, r.GraceLost))),
		fmt.Sprintf("A link that is up but silent is lost after %s; so nobody who is gone is shown for longer than %s (%s when their page was hidden).",
			short(p.BeatEvery+p.Silence()), short(p.BeatEvery+p.Silence()+r.GraceLost), short(p.BeatEvery+p.Silence()+max(r.GraceBackground, r.GraceLost))),
		fmt.Sprintf("Who has touched nothing for %s is away.", short(p.IdleAfter)),
	}
	switch p.SecondSession {
	case presence.ReplaceFirst:
		doc.Words = append(doc.Words, "A person has one session: a newer one ends the older.")
	case presence.RefuseSecond:
		doc.Words = append(doc.Words, "A person has one session: while it has a link, another is refused.")
	}
	if r.Capacity > 0 {
		doc.Words = append(doc.Words, fmt.Sprintf("At most %s may be in the room; others are refused.", map[bool]string{true: "1 person", false: fmt.Sprintf("%d people", r.Capacity)}[r.Capacity == 1]))
	}
	return doc
}
