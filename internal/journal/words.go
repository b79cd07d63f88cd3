package journal

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// textOf says in words what the entries of a line are, as the rest of a sentence about their
// person. A line about nobody is a whole sentence.
func textOf(entries []wire.Record) string {
	if len(entries) == 1 {
		if text := single(&entries[0]); text != "" {
			return text
		}
	}
	f := gather(entries)
	text := join(f.verbs())
	if why := f.why(); why != "" {
		text += ": " + why
	}
	return text
}

// facts are what the entries of a line say.
type facts struct {
	rooms                                map[Kind][]string // of joins and leaves
	opened, lost, resumed, ended, inputs *wire.Record
	left, removed                        *wire.Record
	online, offline                      bool
	statuses                             []wire.Record // besides those
	others                               []string
	from, to                             time.Time
}

func gather(entries []wire.Record) facts {
	f := facts{rooms: map[Kind][]string{}, from: entries[0].At.Time, to: entries[len(entries)-1].At.Time}
	for i := range entries {
		r := &entries[i]
		switch kind := Kind(r.Kind); kind {
		case SessionOpened:
			f.opened = r
		case SessionLost:
			if f.lost == nil || r.Reason == "closing" {
				f.lost = r
			}
		case SessionResumed:
			f.resumed = r
		case SessionEnded:
			f.ended = r
		case SessionIdle, SessionActive:
			f.inputs = r
		case MemberJoined, SessionJoined, MemberLeft, SessionLeft:
			f.rooms[kind] = append(f.rooms[kind], r.Room)
			if kind == MemberLeft {
				f.left = r
			}
		case PersonRemoved:
			f.removed = r
		case StatusChanged:
			switch {
			case r.Was == "offline":
				f.online = true
			case r.Status == "offline":
				f.offline = true
			default:
				f.statuses = append(f.statuses, *r)
			}
		case EngagedBegan, EngagedEnded: // as the room says
		default:
			f.others = append(f.others, single(r))
		}
	}
	return f
}

// verbs says what happened.
func (f *facts) verbs() (list []string) {
	say := func(when bool, words string) {
		if when {
			list = append(list, words)
		}
	}
	list = append(list, f.others...)
	say(f.resumed != nil && f.lost != nil, f.returned())
	say(f.resumed != nil && f.lost == nil, "came back "+lasting(f.length(f.resumed))+" after losing the link")
	say(f.online, "came online")
	say(f.removed != nil && f.removed.Room != "", "was removed from "+f.roomOf(f.removed))
	say(f.removed != nil && f.removed.Room == "", "was removed")
	say(len(f.rooms[MemberJoined]) > 0, "joined "+join(f.rooms[MemberJoined]))
	say(len(f.rooms[SessionJoined]) > 0, "opened another page in "+join(f.rooms[SessionJoined]))
	say(f.opened != nil && !f.online && len(f.rooms[SessionJoined])+len(f.rooms[MemberJoined]) == 0, "opened a session")
	say(len(f.rooms[MemberLeft]) > 0 && f.removed == nil, "left "+join(f.rooms[MemberLeft]))
	say(len(f.rooms[SessionLeft]) > 0, "has one page less in "+join(f.rooms[SessionLeft]))
	say(f.offline, "went offline")
	say(f.ended != nil && !f.offline && len(f.rooms[MemberLeft])+len(f.rooms[SessionLeft]) == 0, "has one session less")
	if f.resumed == nil && f.ended == nil && f.lost != nil && len(list) == 0 {
		list = append(list, lossWords(f.lost, "closed or reloaded a page", "lost the link"))
	}
	if len(f.statuses) > 0 && !f.offline {
		list = append(list, f.statusWords())
	}
	say(len(list) == 0 && f.inputs != nil && Kind(f.inputs.Kind) == SessionIdle, "left a page alone")
	say(len(list) == 0 && f.inputs != nil, "is at a page again")
	return list
}

func (f *facts) roomOf(r *wire.Record) string {
	if r == nil {
		return ""
	}
	return r.Room
}

func (f *facts) length(r *wire.Record) time.Duration {
	if r == nil {
		return 0
	}
	return time.Duration(r.Length) * time.Millisecond
}

// returned says what a loss was that others did not notice.
func (f *facts) returned() string {
	if f.lost == nil || f.resumed == nil {
		return ""
	}
	took := lasting(f.length(f.resumed))
	return lossWords(f.lost, "reloaded a page in "+took, "was without a link for "+took)
}

// lossWords chooses words for a page that closed, or for another loss.
func lossWords(lost *wire.Record, closing, other string) string {
	switch {
	case lost.Reason == "closing":
		return closing
	case lost.PageHidden:
		return other + " in the background"
	}
	return other
}

func (f *facts) statusWords() string {
	last := &f.statuses[len(f.statuses)-1]
	words := "is " + last.Status
	if last.Note != "" {
		words += " (" + last.Note + ")"
	}
	if len(f.statuses) > 1 {
		words += fmt.Sprintf(", after %d changes in %s", len(f.statuses), lasting(f.to.Sub(f.from)))
	}
	return words
}

// why says why it happened.
func (f *facts) why() string {
	switch {
	case f.ended != nil:
		return f.ending(f.ended)
	case f.removed != nil && f.removed.By != "":
		return "with the key " + f.removed.By
	case f.left != nil:
		return f.ending(f.left)
	case f.opened != nil && f.opened.Reason == string(presence.UnknownSession):
		return "the earlier session had ended"
	case f.opened != nil && f.opened.Reason == string(presence.SessionInUse):
		return "the earlier session is open in another tab"
	case f.inputs != nil && len(f.statuses) <= 1 && Kind(f.inputs.Kind) == SessionIdle:
		return "no input for " + lasting(f.length(f.inputs))
	case f.inputs != nil && len(f.statuses) <= 1:
		return "input again after " + lasting(f.length(f.inputs))
	}
	return ""
}

// ending says why a session ended, or left a room.
func (f *facts) ending(r *wire.Record) string {
	within := ""
	if f.lost != nil {
		within = " within " + lasting(r.At.Sub(f.lost.At.Time).Round(100*time.Millisecond))
	}
	switch r.Reason {
	case "closing":
		return "the page closed and did not return" + within
	case "lost", "expired", "silent":
		words := map[string]string{"lost": "the link was lost", "expired": "the token expired", "silent": "the link fell silent"}[r.Reason]
		if r.Over == "beats" {
			return "no beat came any more"
		}
		if f.lost != nil && f.lost.PageHidden {
			words += " in the background"
		}
		return words + " and did not return" + within
	case "bye":
		return "signed off"
	case "removed":
		return "removed"
	case "replaced":
		return "a newer session took over"
	}
	return ""
}

// single says what one entry is that needs no others; empty for one that is put together from
// its facts.
func single(r *wire.Record) string {
	took := lasting(time.Duration(r.Length) * time.Millisecond)
	by := ""
	if r.By != "" {
		by = " with the key " + r.By
	}
	switch Kind(r.Kind) {
	case AskOpened:
		return "asks to be let into " + r.Room
	case AskAnswered:
		return "asked to be let into " + r.Room + "; the ask " + wire.Outcomes[r.Reason] + answeredBy(r.Other) + " after " + took
	case InvitationOpened:
		return "invites " + r.Other + " into " + r.Room
	case InvitationAnswered:
		return "invited " + r.Other + " into " + r.Room + "; the invitation " + wire.Outcomes[r.Reason] + " after " + took
	case ServiceStarted:
		if r.Length == 0 {
			return "The service started"
		}
		return map[string]string{"crash": "The service started after a crash, ", "restart": "The service started again, "}[r.Reason] + took + " later"
	case ServiceSuspended:
		return "The machine stood still for " + took + "; all deadlines have moved by that"
	case ServiceStopped:
		return "The service stopped"
	case Gap:
		return fmt.Sprintf("%d entries of %s could not be written", r.Lost, took)
	case PersonSignedOut:
		return "was signed out" + by
	case PersonErased:
		return "Somebody was erased" + by
	case PersonExported:
		return "was exported" + by
	case EngagedBegan:
		return "is engaged by " + r.Room
	case EngagedEnded:
		return "is no longer engaged by " + r.Room + ", after " + took
	}
	if did := acts[Kind(r.Kind)]; did != "" {
		return strings.Join(strings.Fields(fmt.Sprintf(did, strings.TrimSpace(r.Note+r.Room))+by), " ")
	}
	return ""
}

// acts are what operators did, with a place for what they did it to.
var acts = map[Kind]string{
	KeyAdded: "The key %s was added", KeyRevoked: "The key %s was revoked", TokenKeyAdded: "The token key %s was added", TokenKeyRevoked: "The token key %s was revoked",
	HookAdded: "The hook %s was added", HookChanged: "The hook %s was changed", HookRemoved: "The hook %s was removed",
	RoomDeclared: "The room %s was declared", RoomUndeclared: "The declaration of the room %s was undone",
	ConfigReloaded: "The configuration was reloaded (%s)", RecordsBackedUp: "The records were backed up %s",
}

func answeredBy(user string) string {
	if user == "" {
		return ""
	}
	return " by " + user
}

// join lists words: a, b and c.
func join(words []string) string {
	words = unique(words)
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// unique removes repeated words, and keeps the order.
func unique(words []string) (list []string) {
	for _, word := range words {
		if !slices.Contains(list, word) {
			list = append(list, word)
		}
	}
	return list
}

// lasting formats a duration in its two largest units.
func lasting(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return strings.TrimSuffix(fmt.Sprintf("%.1f", d.Seconds()), ".0") + " s"
	case d < time.Hour:
		return strings.TrimSuffix(fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60), " 0 s")
	}
	return strings.TrimSuffix(fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60), " 0 min")
}
