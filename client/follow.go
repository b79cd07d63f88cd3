package client

import (
	"context"
	"crypto/rand"
	"errors"
	"iter"
	"maps"
	mathrand "math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"tovik.example/tovik/wire"
)

// Change is one of the values that [Follower.Changes] yields: an [Event], a [wire.TypingFrame],
// a [wire.PersonFrame], a [wire.CueFrame], a [wire.AsksFrame], a [wire.AskFrame], a
// [wire.Invitations], a [wire.InvitationFrame], a [wire.Drop], a [Lost] or a [Linked].
type Change any

// Lost says that the link was lost, and why. The follower reconnects; what it knows of rooms may
// be out of date until the next [Linked].
type Lost struct{ Err error }

// Linked says that there is a link: the first one, or another after a [Lost].
type Linked struct{ Opened wire.Opened }

// Follower follows rooms and people, reconnects whenever its link is lost, and keeps what it
// knows of them. Its session, if it has one, continues from link to link; it is in the rooms of
// the options and those of [Follower.Join].
//
// A Follower is for one goroutine: that of the loop over its changes. What it knows of a room is
// as of the last change.
type Follower struct {
	options Options
	link    *Link
	rooms   map[string]*followed
	moving  time.Duration // of the link that has ended
	behind  atomic.Bool   // the loop was too slow for the link

	// changes holds those that wait for the loop. When it is full, the link is dropped,
	// and the next one begins with snapshots.
	changes chan Change
}

// followed is a room as its follower has it.
type followed struct {
	count   wire.Count
	members map[string]wire.Member
	typing  []string
}

// Follow returns a Follower, which connects when its changes are asked for. It ignores the
// callbacks of the options.
func Follow(o Options) *Follower {
	if o.Nonce == "" {
		o.Nonce = rand.Text() // so that a link which seems alive is taken over at once
	}
	o.Rooms, o.Watch = slices.Clone(o.Rooms), slices.Clone(o.Watch)
	return &Follower{options: o, rooms: map[string]*followed{}, changes: make(chan Change, 4096)}
}

// longestPause bounds the time between two tries to make a link, and dialTimeout a try.
const (
	longestPause = 10 * time.Second
	dialTimeout  = 10 * time.Second
)

// Changes yields every change until ctx is done, the loop ends, the service refuses, or somebody else
// ends the session. In the last two cases the final error is a [*wire.Problem] or an [ErrEnded].
// A failed connection, or a refusal that may
// pass ([wire.Passing]), is tried again: at once, then after pauses that grow to ten seconds. So
// is a refused token, if there is a NewToken. A refused room or watch yields a [wire.Drop], and
// is asked for again with the next link.
func (f *Follower) Changes(ctx context.Context) iter.Seq2[Change, error] {
	return func(yield func(Change, error) bool) {
		ctx, stop := context.WithCancel(ctx)
		defer func() {
			stop()
			if f.link != nil {
				f.link.Close()
			}
		}()
		for failures := 0; ctx.Err() == nil; {
			err := f.dial(ctx)
			if refused := new(wire.Problem); errors.As(err, &refused) && !f.mayPass(refused.Code) {
				yield(nil, err)
				return
			}
			if err == nil {
				failures = 0
				if !yield(Linked{f.link.Opened()}, nil) || !f.tell(ctx, yield) {
					return
				}
				err = f.link.Err()
			}
			if errors.Is(err, ErrEnded) {
				yield(nil, err)
				return
			}
			if ctx.Err() != nil || !yield(Lost{err}, nil) {
				return
			}
			f.pause(ctx, failures)
			failures++
		}
	}
}

// mayPass reports whether another try might succeed.
func (f *Follower) mayPass(code string) bool {
	return wire.Passing(code) || f.options.NewToken != nil && wire.NewTokenMayHelp(code)
}

func (f *Follower) pause(ctx context.Context, failures int) {
	wait := f.moving
	f.moving = 0
	if wait == 0 && failures > 0 {
		wait = min(longestPause, 250*time.Millisecond<<min(failures, 8))
		wait = wait/2 + mathrand.N(wait/2)
	}
	select {
	case <-ctx.Done():
	case <-time.After(wait):
	}
}

// tell hands over what the link tells until it is lost, and says whether to go on.
func (f *Follower) tell(ctx context.Context, yield func(Change, error) bool) bool {
	for {
		if f.behind.Load() {
			f.link.Close()
		}
		select {
		case change := <-f.changes:
			f.note(change)
			if !yield(change, nil) {
				return false
			}
		case <-f.link.Ended():
			if len(f.changes) == 0 { // nothing was told that has not been handed over
				return true
			}
		case <-ctx.Done():
			return false
		}
	}
}

func (f *Follower) note(change Change) {
	switch change := change.(type) {
	case wire.Drop:
		delete(f.rooms, change.Room)
	case wire.TypingFrame:
		f.room(change.Room).typing = change.Users
	case Event:
		room := f.room(change.Room)
		room.count = change.Count
		for _, m := range slices.Concat(change.Joined, change.Changed, change.Doing) {
			room.members[m.User] = m
		}
		for _, d := range change.Left {
			delete(room.members, d.User)
		}
		if room.count.People == 0 {
			delete(f.rooms, change.Room)
		}
	}
}

func (f *Follower) room(name string) *followed {
	room := f.rooms[name]
	if room == nil {
		room = &followed{members: map[string]wire.Member{}}
		f.rooms[name] = room
	}
	return room
}

func (f *Follower) dial(ctx context.Context) error {
	o := f.options
	if f.link != nil && f.link.opened.Session != "" {
		o.Resume = f.link.Resume()
	}
	if f.link != nil && !f.behind.Load() {
		o.After = f.link
	} else {
		clear(f.rooms)
	}
	f.behind.Store(false)
	if o.NewToken != nil {
		token, err := o.NewToken(ctx)
		if err != nil {
			return err
		}
		o.Token = token
	}
	o.OnEvent = func(e Event) { f.give(e) }
	o.OnTyping = func(t wire.TypingFrame) { f.give(t) }
	o.OnPerson = func(p wire.PersonFrame) { f.give(p) }
	o.OnCue = func(c wire.CueFrame) { f.give(c) }
	o.OnDropped = func(d wire.Drop) { f.give(d) }
	o.OnAsks = func(a wire.AsksFrame) { f.give(a) }
	o.OnAsk = func(a wire.AskFrame) { f.give(a) }
	o.OnInvitations = func(all wire.Invitations) { f.give(all) }
	o.OnInvitation = func(i wire.InvitationFrame) { f.give(i) }
	o.OnMoving = func(wait time.Duration) { f.moving = wait }
	dialing, cancel := context.WithTimeout(ctx, dialTimeout)
	defer cancel()
	link, err := Dial(dialing, o)
	if err != nil {
		return err
	}
	f.link = link
	return nil
}

// give puts a change before the loop. It is called by the link's reader.
func (f *Follower) give(change Change) {
	if f.behind.Load() {
		return
	}
	select {
	case f.changes <- change:
	default:
		f.behind.Store(true)
	}
}

// Link returns the present link, to send requests over it. It is nil before the first link.
func (f *Follower) Link() *Link { return f.link }

// Join puts the session into a room, now and after every reconnect.
func (f *Follower) Join(ctx context.Context, room string) error {
	if !slices.Contains(f.options.Rooms, room) {
		f.options.Rooms = append(f.options.Rooms, room)
	}
	return f.link.Join(ctx, room)
}

// Leave takes the session out of a room.
func (f *Follower) Leave(ctx context.Context, room string) error {
	f.options.Rooms = slices.DeleteFunc(f.options.Rooms, func(r string) bool { return r == room })
	return f.link.Leave(ctx, room)
}

// Count returns how many are in a room that is followed.
func (f *Follower) Count(room string) wire.Count { return f.known(room).count }

// Members returns the members of a room that is followed, by user id.
func (f *Follower) Members(room string) []wire.Member {
	members := slices.Collect(maps.Values(f.known(room).members))
	slices.SortFunc(members, func(a, b wire.Member) int { return strings.Compare(a.User, b.User) })
	return members
}

// Typing returns the typists in a room, in the order in which they began.
func (f *Follower) Typing(room string) []string { return f.known(room).typing }

func (f *Follower) known(room string) followed {
	if known := f.rooms[room]; known != nil {
		return *known
	}
	return followed{}
}
