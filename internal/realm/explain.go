package realm

import (
	"context"
	"fmt"
	"strings"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Explain says how others see a person, and for a room why the person is or is not in it: the
// rule that decides, the evidence, and what happens next.
func (d Desk) Explain(ctx context.Context, id, name string) (wire.Explanation, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Explanation{}, err
	}
	var room presence.RoomName
	if name != "" {
		if room, err = presence.ParseRoom(name); err != nil {
			return wire.Explanation{}, err
		}
	}
	r := d.realm
	x := r.core.Explain(user, room)
	page, err := r.store.People(ctx, records.PeopleQuery{Realm: r.name, Users: []presence.UserID{user}, Limit: 1})
	if err != nil {
		return wire.Explanation{}, err
	}
	if len(page) == 0 && len(x.Sessions) == 0 {
		return wire.Explanation{}, problem.UnknownPerson(user)
	}
	shown := x.Shown[presence.Full]
	doc := wire.Explanation{User: string(user), Room: string(room), At: wire.Time{Time: time.Now()}, Status: string(shown.Status), Note: shown.Note,
		Until: wire.TimeOf(shown.Until), Typing: x.Typing, Sessions: []wire.Session{}}
	if len(page) > 0 {
		doc.Name = page[0].Name
	}
	if open := x.Shown[presence.Open].Status; open != shown.Status {
		doc.Open = string(open)
	}
	for _, e := range x.Sessions {
		doc.Sessions = append(doc.Sessions, sessionDocument(e))
	}
	if m := x.Member[presence.Full]; m.Sessions > 0 {
		doc.Member = &delivery.Members([]presence.Member{m})[0]
	}
	if doc.Last, err = r.lastEnd(ctx, user, room, x); err != nil {
		return wire.Explanation{}, err
	}
	doc.Rules = rulesTried(&x)
	doc.Words = explainer{r.Policy(), doc.At.Time, &x, doc.Last}.words()
	return doc, nil
}

// lastEnd finds the journal entry of the last leave from the room, or without a room of the
// end of the last session.
func (r *Realm) lastEnd(ctx context.Context, user presence.UserID, room presence.RoomName, x presence.Explanation) (*wire.Record, error) {
	q := records.JournalQuery{Realm: r.name, Users: []presence.UserID{user}, Kinds: []journal.Kind{journal.SessionEnded}, Backward: true}
	switch {
	case room != "" && x.Member[presence.Full].Sessions == 0:
		q.Kinds, q.Rooms = []journal.Kind{journal.MemberLeft}, []presence.Pattern{presence.Pattern(room)}
	case room != "" || x.Shown[presence.Full].Status != presence.Offline:
		return nil, nil
	}
	page, err := r.store.Journal(ctx, q, 1)
	if err != nil || len(page) == 0 {
		return nil, err
	}
	last := page[0].Record()
	return &last, nil
}

// rulesTried returns the rules of a status, each with whether it applies to the person.
func rulesTried(x *presence.Explanation) (rules []wire.RuleTried) {
	for _, r := range x.Rules {
		statuses := r.Rule.Statuses()
		words := make([]string, len(statuses))
		for i, status := range statuses {
			words[i] = string(status)
		}
		rules = append(rules, wire.RuleTried{Rule: string(r.Rule), Status: strings.Join(words, " or "), Holds: r.Holds, Decides: r.Rule == x.Because[presence.Full]})
	}
	return rules
}

// explainer writes an explanation for readers who do not know the rules.
type explainer struct {
	policy *presence.Policy
	now    time.Time
	x      *presence.Explanation
	last   *wire.Record
}

// until returns the end of what is set, if it has one.
func (e explainer) until(set presence.Appearance) string {
	if set.Until == 0 {
		return ""
	}
	return ", until " + e.clock(time.UnixMilli(set.Until))
}

func (e explainer) words() (words []string) {
	say := func(format string, args ...any) { words = append(words, fmt.Sprintf(format, args...)) }
	x := e.x
	shown := x.Shown[presence.Full]
	switch x.Because[presence.Full] {
	case presence.RuleNoSession:
		say("They are offline: no page, device or process of theirs has a session.")
	case presence.RuleSet:
		say("They are %s because they have set that themselves%s; what they do at their pages does not change it.", shown.Status, e.until(shown))
	case presence.RuleEngaged:
		rooms := make([]string, len(x.Engaged))
		for i, in := range x.Engaged {
			rooms[i] = fmt.Sprintf("%s since %s", in.Room, e.clock(in.Since))
		}
		say("They are busy: engaged in %s.", strings.Join(rooms, " and "))
	case presence.RuleAwake:
		say("They are online: %s.", e.awake())
	case presence.RuleIdle:
		say("They are away: nobody is at %s. A session is idle when it has not been touched for %s, or says so itself, as with a locked screen.", e.ofTheirs("any"), phrase.Lasting(e.policy.IdleAfter))
	}
	if because := x.Because[presence.Full]; shown.Note != "" && because != presence.RuleSet {
		say("They have set a note, %q%s.", shown.Note, e.until(shown))
	}
	if x.Hidden {
		say("They hide: everybody but operators and back ends sees them offline and in no room.")
	}
	if x.Room != "" {
		words = append(words, e.inRoom()...)
	}
	if e.last != nil {
		say("%s", e.ended())
	}
	for i := range x.Sessions {
		words = append(words, e.session(i+1, &x.Sessions[i]))
	}
	return words
}

// awake says why a person counts as active.
func (e explainer) awake() string {
	for _, s := range e.x.Sessions {
		switch {
		case s.Idle:
		case s.NoInput:
			return e.ofTheirs("one") + " is of a device, which counts as awake while it is alive"
		default:
			return fmt.Sprintf("somebody did something at %s %s ago, and a session is idle only after %s without that",
				e.ofTheirs("one"), phrase.Lasting(e.now.Sub(s.LastActivity)), phrase.Lasting(e.policy.IdleAfter))
		}
	}
	return "somebody is awake at a session of theirs that is not in " + string(e.x.Room)
}

// ofTheirs names one of the person's sessions, or the only one.
func (e explainer) ofTheirs(which string) string {
	if n := e.x.All; n > 1 {
		return fmt.Sprintf("%s of their %d sessions", which, n)
	}
	return "their session"
}

func (e explainer) inRoom() (words []string) {
	m := e.x.Member[presence.Full]
	if m.Sessions == 0 {
		return append([]string{e.notInRoom()}, e.pass()...)
	}
	words = []string{fmt.Sprintf("They are in %s since %s, through %s.", e.x.Room, e.clock(m.Since), phrase.Count(m.Sessions, "session"))}
	if e.x.Typing {
		words = append(words, fmt.Sprintf("They are typing: it was reported within the last %s, after which it would end by itself.", phrase.Lasting(e.policy.For(e.x.Room).TypingExpires)))
	}
	return append(words, e.pass()...)
}

// notInRoom says why somebody is not in the room.
func (e explainer) notInRoom() string {
	x := e.x
	switch {
	case x.Ask != nil:
		return fmt.Sprintf("They are not in %s: they asked to be let in %s ago; %s can answer, until %s.", x.Room, phrase.Lasting(e.now.Sub(time.UnixMilli(x.Ask.Since))), people(x.Admit), e.clock(time.UnixMilli(x.Ask.Until)))
	case x.Again > 0:
		return fmt.Sprintf("They are not in %s: they asked and were refused; they may ask again at %s.", x.Room, e.clock(time.UnixMilli(x.Again)))
	case x.Entry == presence.EntryAsk && x.Pass == 0:
		return fmt.Sprintf("They are not in %s: none of their sessions is. They must ask to enter, because they have no pass.", x.Room)
	}
	return fmt.Sprintf("They are not in %s: none of their sessions is.", x.Room)
}

func (e explainer) pass() []string {
	if e.x.Pass == 0 {
		return nil
	}
	return []string{fmt.Sprintf("They have a pass until %s: the room lets them in without asking.", e.clock(time.UnixMilli(e.x.Pass)))}
}

func people(n int) string {
	if n == 0 {
		return "nobody who is there"
	}
	if n == 1 {
		return "1 person who is there"
	}
	return fmt.Sprintf("%d people who are there", n)
}

func (e explainer) ended() string {
	why := wire.Reasons[e.last.Reason].Ended
	if why == "" {
		why = "of " + e.last.Reason
	}
	what := "Their last session ended"
	if e.last.Kind == string(journal.MemberLeft) {
		what = "They left " + e.last.Room
	}
	return fmt.Sprintf("%s at %s, because %s; it had lasted %s.", what, e.clock(e.last.At.Time), why, phrase.Lasting(time.Duration(e.last.Length)*time.Millisecond))
}

// session describes a session, and what happens to it next.
func (e explainer) session(n int, s *presence.Evidence) string {
	text := fmt.Sprintf("Session %d (over %s, since %s) ", n, wire.Overs[s.Kind.String()], e.clock(s.Opened))
	if s.State == presence.Grace {
		text += fmt.Sprintf("is in its grace since %s: %s; until the grace is over it still counts", e.clock(s.LostAt), wire.Reasons[s.Reason.String()].Lost)
	} else {
		text += fmt.Sprintf("is live: last heard of %s ago", phrase.Lasting(e.now.Sub(s.LastHeard)))
	}
	switch {
	case s.NoInput:
		text += ", without human input"
	case s.Idle && e.now.Sub(s.LastActivity) < e.policy.IdleAfter:
		text += fmt.Sprintf(", idle: it said that nobody is there, touched %s ago", phrase.Lasting(e.now.Sub(s.LastActivity)))
	case s.Idle:
		text += fmt.Sprintf(", idle: nobody has touched anything for %s", phrase.Lasting(e.now.Sub(s.LastActivity)))
	default:
		text += fmt.Sprintf(", awake: touched %s ago", phrase.Lasting(e.now.Sub(s.LastActivity)))
	}
	if s.PageHidden {
		text += ", its page hidden"
	}
	if len(s.Next) > 0 {
		next := s.Next[0]
		text += fmt.Sprintf(". If nothing more is heard, %s in %s", wire.ActWords(string(next.Act), string(next.Room)), phrase.Lasting(next.At.Sub(e.now)))
	}
	return text + "."
}

func (e explainer) clock(at time.Time) string {
	if e.now.Sub(at).Abs() < 20*time.Hour {
		return at.UTC().Format("15:04:05") + " UTC"
	}
	return at.UTC().Format("2006-01-02 15:04") + " UTC"
}
