package realm

import (
	"fmt"

	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// policyDocument returns the policy of a room, with sentences that explain it.
func policyDocument(p *presence.Policy, r *presence.RoomPolicy) wire.Policy {
	doc := wire.Policy{
		GraceClosing: r.GraceClosing.Milliseconds(), GraceLost: r.GraceLost.Milliseconds(), GraceBackground: (p.GhostIn(r, true) - p.LostAfter()).Milliseconds(),
		TypingExpires: r.TypingExpires.Milliseconds(), CountEvery: r.CountEvery.Milliseconds(), Capacity: r.Capacity, MembersMax: r.MembersMax,
		BeatEvery: p.BeatEvery.Milliseconds(), Silence: p.Silence().Milliseconds(), IdleAfter: p.IdleAfter.Milliseconds(), Lease: p.Lease.Milliseconds(), Second: string(p.SecondSession),
		Ghost: p.LongestGhostIn(r).Milliseconds(),
		Entry: string(r.Entry), AskWaits: r.AskWaits.Milliseconds(), AskPass: r.AskPass.Milliseconds(), AskAgain: r.AskAgain.Milliseconds(), WatchCount: string(r.WatchCount),
		Engages: r.Engages, EngagesSeveral: r.EngagesSeveral, DoingEvery: r.DoingEvery.Milliseconds(), DoingBytes: r.DoingBytes,
		InvitationWaits: p.InvitationWaits.Milliseconds(), InvitationBusy: string(p.InvitationBusy), InvitationsMax: p.InvitationsMax,
	}
	if labels := p.Labels; len(labels[presence.Online])+len(labels[presence.Away])+len(labels[presence.Busy]) > 0 {
		doc.Statuses = map[string][]string{}
		for status, words := range labels {
			if len(words) > 0 {
				doc.Statuses[string(status)] = words
			}
		}
	}
	doc.Words = []string{
		fmt.Sprintf("After a page closes, its person stays listed for %s, so that a reload goes unnoticed.", phrase.Lasting(r.GraceClosing)),
		fmt.Sprintf("After a link is lost without a word, its person stays listed for %s, or for %s if the page was hidden.", phrase.Lasting(r.GraceLost), phrase.Lasting(p.GhostIn(r, true)-p.LostAfter())),
		fmt.Sprintf("A link that is up but silent counts as lost after %s. So nobody who is gone stays listed for longer than %s, or %s if their page was hidden.",
			phrase.Lasting(p.LostAfter()), phrase.Lasting(p.GhostIn(r, false)), phrase.Lasting(p.GhostIn(r, true))),
		fmt.Sprintf("After %s without human input, a person is away.", phrase.Lasting(p.IdleAfter)),
	}
	switch p.SecondSession {
	case presence.ReplaceFirst:
		doc.Words = append(doc.Words, "A person has one session: a newer session ends the older one.")
	case presence.RefuseSecond:
		doc.Words = append(doc.Words, "A person has one session: while it has a link, a second session is refused.")
	}
	if r.Entry == presence.EntryAsk {
		doc.Words = append(doc.Words, fmt.Sprintf("The room asks: a person without a pass waits up to %s for a member to let them in. A pass lasts %s. After a refusal the person may ask again after %s.", phrase.Lasting(r.AskWaits), phrase.Lasting(r.AskPass), phrase.Lasting(r.AskAgain)))
	}
	if r.Engages {
		doc.Words = append(doc.Words, "The room engages: its members are shown busy, unless they have set another status.")
	}
	if r.Capacity > 0 {
		doc.Words = append(doc.Words, fmt.Sprintf("The room holds %s; others are refused.", phrase.Count(r.Capacity, "person")))
	}
	return doc
}
