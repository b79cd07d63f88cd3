package journal

import (
	"cmp"
	"fmt"
	"time"

	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// textOf returns the text of a line: the rest of a sentence about its person, or a whole sentence
// if it has none.
func textOf(entries []wire.Record) string {
	f := gather(entries)
	verbs := f.verbs()
	if len(verbs) == 0 {
		return single(&entries[len(entries)-1])
	}
	text := phrase.List(verbs)
	if why := f.why(); why != "" {
		text += ": " + why
	}
	return text
}

// facts are what the entries of a line say.
type facts struct {
	joined, opened, left, closed             []string     // rooms that the person entered, or opened another page in, and the reverse
	begun, lost, resumed, ended, gone, input *wire.Record // of sessions; gone is of a member
	online, offline                          bool
	statuses                                 []wire.Record // other changes of the status
	acted                                    bool          // an operator or a moderator did something, which others says
	others                                   []string
	took                                     time.Duration
}

func gather(entries []wire.Record) facts {
	f := facts{took: entries[len(entries)-1].At.Sub(entries[0].At.Time)}
	for i := range entries {
		r := &entries[i]
		switch Kind(r.Kind) {
		case SessionOpened:
			f.begun = r
		case SessionLost:
			if f.lost == nil || closing(r) {
				f.lost = r
			}
		case SessionResumed:
			f.resumed = r
		case SessionEnded:
			f.ended = r
		case SessionIdle, SessionActive:
			f.input = r
		case MemberJoined:
			f.joined = append(f.joined, r.Room)
		case SessionJoined:
			f.opened = append(f.opened, r.Room)
		case MemberLeft:
			f.left, f.gone = append(f.left, r.Room), r
		case SessionLeft:
			f.closed = append(f.closed, r.Room)
		case StatusChanged:
			switch {
			case r.Was == "offline":
				f.online = true
			case r.Status == "offline":
				f.offline = true
			default:
				f.statuses = append(f.statuses, *r)
			}
		case EngagedBegan, EngagedEnded: // joining and leaving the room imply it
		case PersonRemoved, PersonSignedOut:
			f.acted = true
			f.others = append(f.others, single(r))
		default:
			f.others = append(f.others, single(r))
		}
	}
	return f
}

// verbs says what happened.
func (f *facts) verbs() []string {
	list := f.others
	if f.resumed != nil {
		list = append(list, f.returned())
	}
	if f.online {
		list = append(list, "came online")
	}
	if len(f.joined) > 0 {
		list = append(list, "joined "+phrase.List(f.joined))
	}
	if len(f.opened) > 0 {
		list = append(list, "opened another page in "+phrase.List(f.opened))
	}
	if f.begun != nil && !f.online && len(f.joined)+len(f.opened) == 0 {
		list = append(list, "opened a session")
	}
	if !f.acted && len(f.left) > 0 {
		list = append(list, "left "+phrase.List(f.left))
	}
	if !f.acted && len(f.closed) > 0 {
		list = append(list, "left "+phrase.List(f.closed)+" on one of several pages")
	}
	if f.offline {
		list = append(list, "went offline")
	}
	if f.ended != nil && !f.offline && !f.acted && len(f.left)+len(f.closed) == 0 {
		list = append(list, "closed a session")
	}
	if len(f.statuses) > 0 && !f.offline {
		list = append(list, f.status())
	}
	if len(list) > 0 {
		return list
	}
	switch {
	case f.lost != nil && closing(f.lost):
		return []string{"closed or reloaded a page"}
	case f.lost != nil:
		return []string{"lost the link" + background(f.lost)}
	case f.input != nil && Kind(f.input.Kind) == SessionIdle:
		return []string{"went idle"}
	case f.input != nil:
		return []string{"is active again"}
	}
	return nil
}

// returned says how a session came back within its grace.
func (f *facts) returned() string {
	took := phrase.Lasting(length(f.resumed))
	switch {
	case f.lost == nil:
		return "came back " + took + " after losing the link"
	case closing(f.lost):
		return "reloaded a page in " + took
	}
	return "was without a link for " + took + background(f.lost)
}

// status says what the status is now.
func (f *facts) status() string {
	last := &f.statuses[len(f.statuses)-1]
	text := "is " + last.Status
	if last.Note != "" {
		text += " (" + last.Note + ")"
	}
	if len(f.statuses) > 1 {
		text += fmt.Sprintf(", after %d changes in %s", len(f.statuses), phrase.Lasting(f.took))
	}
	return text
}

// why says why it happened.
func (f *facts) why() string {
	switch {
	case f.acted:
		return ""
	case f.ended != nil:
		return f.ending(f.ended)
	case f.gone != nil:
		return f.ending(f.gone)
	case f.begun != nil && f.begun.Reason == string(presence.UnknownSession):
		return "the earlier session had ended"
	case f.begun != nil && f.begun.Reason == string(presence.SessionInUse):
		return "the earlier session is open in another tab"
	case f.input == nil || len(f.statuses) > 1:
		return ""
	case Kind(f.input.Kind) == SessionIdle:
		return "no input for " + phrase.Lasting(length(f.input))
	}
	return "input again after " + phrase.Lasting(length(f.input))
}

// ending says why a session ended, or a member left.
func (f *facts) ending(r *wire.Record) string {
	words := wire.Reasons[r.Reason]
	if words.Lost == "" {
		return words.Cause
	}
	if r.Over == presence.HTTPBeats.String() {
		return "no further beat came"
	}
	text := words.Cause
	if f.lost != nil {
		text += " within " + phrase.Lasting(r.At.Sub(f.lost.At.Time).Round(100*time.Millisecond)) + background(f.lost)
	}
	return text
}

// single says what one entry is; empty for kinds that [facts] put together.
func single(r *wire.Record) string {
	took := phrase.Lasting(length(r))
	key := ""
	if r.By != "" {
		key = " with the key " + r.By
	}
	switch Kind(r.Kind) {
	case PersonRemoved:
		if r.Room != "" {
			return "was removed from " + r.Room + key
		}
		return "was removed" + key
	case PersonSignedOut:
		return "was signed out" + key
	case PersonExported:
		return "was exported" + key
	case PersonErased:
		return "A person was erased" + key
	case EngagedBegan:
		return "is engaged by " + r.Room
	case EngagedEnded:
		return "is no longer engaged by " + r.Room + ", after " + took
	case AskOpened:
		return "asks to be let into " + r.Room
	case AskAnswered:
		text := "asked to be let into " + r.Room + "; the ask " + wire.Outcomes[r.Reason]
		if r.Other != "" {
			text += " by " + r.Other
		}
		return text + " after " + took
	case InvitationOpened:
		return "invites " + r.Other + " into " + r.Room
	case InvitationAnswered:
		return "invited " + r.Other + " into " + r.Room + "; the invitation " + wire.Outcomes[r.Reason] + " after " + took
	case QuotaNear:
		return "The realm is near its quota of " + quotas[r.Reason] + ": " + r.Note
	case QuotaReached:
		return "The realm has reached its quota of " + quotas[r.Reason] + ": " + r.Note + "; what is new is refused"
	case ServiceStarted:
		switch {
		case r.Length == 0:
			return "The service started"
		case r.Reason == "crash":
			return "The service started " + took + " after a crash"
		}
		return "The service started again, " + took + " later"
	case ServiceStopped:
		return "The service stopped"
	case ServiceSuspended:
		return "The machine stood still for " + took + "; all deadlines moved by that"
	case Gap:
		return fmt.Sprintf("The journal could not be written for %s: %s lost", took, phrase.Count(int(r.Lost), "entry"))
	case ConfigReloaded:
		return "The configuration was reloaded" + key + ": " + cmp.Or(r.Note, "nothing changed")
	case RecordsBackedUp:
		return "The records were backed up" + key
	}
	if act, ok := acts[Kind(r.Kind)]; ok {
		return fmt.Sprintf(act, cmp.Or(r.Room, r.Note)) + key
	}
	return ""
}

// quotas are the words for quotas.
var quotas = map[string]string{"people": "people", "sessions": "sessions", "cues": "cues in a minute"}

// acts are what operators did, each with a place for what they did it to.
var acts = map[Kind]string{
	KeyAdded:        "The key %s was added",
	KeyRevoked:      "The key %s was revoked",
	TokenKeyAdded:   "The token key %s was added",
	TokenKeyRevoked: "The token key %s was revoked",
	HookAdded:       "The hook %s was added",
	HookChanged:     "The hook %s was changed",
	HookRemoved:     "The hook %s was removed",
	RoomDeclared:    "The room %s was declared",
	RoomUndeclared:  "The declaration of the room %s was undone",
}

// closing reports whether a session was lost because its page closed, or was reloaded.
func closing(lost *wire.Record) bool { return lost.Reason == presence.ReasonClosing.String() }

func background(lost *wire.Record) string {
	if lost.PageHidden {
		return " (page in the background)"
	}
	return ""
}

func length(r *wire.Record) time.Duration { return time.Duration(r.Length) * time.Millisecond }
