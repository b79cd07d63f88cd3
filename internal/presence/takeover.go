package presence

import "time"

// A realm's core may end on one node and continue on another (docs/cluster.md). Each core of the
// realm has an epoch. Its times are realm time, which continues where the previous core ended, and
// stands still while no core runs.

// SetEpoch makes the core one of several that run the realm in turn. It numbers links by (epoch,
// count), so that no two cores give the same number; it saves its own times, so that another core
// can continue; and it recognises a hello that comes again. Call it before the first input.
func (c *Core) SetEpoch(epoch uint32) {
	c.epoch, c.minted = epoch, LinkNumber(epoch)<<32
}

// mint returns the number of a session's next link.
func (c *Core) mint(last LinkNumber) LinkNumber {
	if c.epoch == 0 {
		return last + 1
	}
	c.minted++
	return c.minted
}

// Time returns the core's own time: monotonic, without the periods in which time stood still.
func (c *Core) Time() time.Duration { return c.awake }

// StandStill stops the core's time until [Core.GoOn]: nothing falls due, and no silence counts.
// Inputs are still applied.
func (c *Core) StandStill(at Instant) {
	c.read(at)
	c.standing = true
}

// StoodStill is StandStill from the last call on: the time since then does not count.
func (c *Core) StoodStill(at Instant) {
	c.standing = true
	c.read(at)
}

// GoOn ends StandStill.
func (c *Core) GoOn(at Instant) {
	c.read(at)
	c.standing = false
}

// Takeover says how far the record of a realm goes when another core continues.
type Takeover struct {
	// Time is the last core's own time at its last mark, its last sign of life on record.
	Time time.Duration
	// Wall is the time of day of the mark, in Unix milliseconds.
	Wall int64
	// Whole says that the last core handed over, so that the record lacks nothing.
	Whole bool
	// First says that there was no mark: what is on record was saved by a service that was alone, whose
	// core had another time.
	First bool
}

// Continue loads the state that the realm's previous cores have recorded into an empty core. Its
// time stands still afterwards.
//
// A live session keeps its link. It counts as heard at the mark, and as active then unless it was
// idle. Its link becomes silent unless a carrier reports it ([Core.Reseat], [Core.UnseatOthers]). A
// session in grace keeps the reason and the rest of its grace. If the record is not whole, the
// grace lasts at least as long as that of a lost link, because a return may be missing from the
// record. Leases begin anew.
//
// The effects say who is there, as those of [Core.Restore] do, although no view sees a change. Touched
// are the people whose grace became longer.
func (c *Core) Continue(at Instant, saved Saved, from Takeover, out *Effects) error {
	if err := c.mayRestore(saved); err != nil {
		return err
	}
	c.awake, c.standing = from.Time, true
	now := c.read(at)
	for _, room := range saved.Declared {
		c.declare(Declare{room, true})
	}
	touched := len(out.Touched)
	var longer []UserID
	people := make([]*person, len(saved.People))
	for i := range people {
		people[i] = c.restorePerson(now, &saved.People[i], out, func(s *session, saved *SavedSession) {
			if c.continueSession(now, s, saved, from) {
				longer = append(longer, s.person.id)
			}
		})
		for _, s := range people[i].sessions.list() {
			c.arm(now, s)
		}
	}
	c.restoreMeetings(now, people, saved.People, !from.First, out)
	out.Touched = append(out.Touched[:touched], longer...)
	return nil
}

// continueSession gives a restored session the times that it had. It returns true if its grace
// became longer.
func (c *Core) continueSession(now reading, s *session, saved *SavedSession, from Takeover) (longer bool) {
	s.restored = true
	s.active = min(saved.Active, now.awake)
	if from.First {
		s.active = now.awake - time.Duration(max(now.wall-saved.LastActive, 0))*time.Millisecond
	}
	if saved.Live {
		s.heardWall = max(s.heardWall, from.Wall)
		if !s.idle {
			s.active = now.awake
		}
		if s.leased {
			c.leases++
			return false
		}
		s.unheard = now.awake + c.policy.BeatEvery
		if s.unseated = saved.Silent > 0; s.unseated {
			s.unheard = min(s.unheard, saved.Silent)
		}
		s.asked = s.unheard
		return false
	}
	c.inGrace++
	s.state, s.reason, s.lost = Grace, saved.Reason, min(saved.Lost, now.awake)
	left := func(ends awakeTime, policy *RoomPolicy) awakeTime {
		ends = min(ends, now.awake+ends-saved.Lost) // what was recorded after the mark has its full grace
		if least := now.awake + policy.GraceLost; !from.Whole && ends < least {
			ends, longer = least, true
		}
		return ends
	}
	s.deadline = left(saved.Ends, &c.policy.RoomPolicy) // the room with the longest grace may have been left
	for _, was := range saved.Rooms {
		e := s.entry(was.Room)
		e.reason, e.deadline = was.Reason, left(was.Ends, e.room().policy)
		s.deadline = max(s.deadline, e.deadline)
	}
	return longer
}

// times adds the core's own times to a saved session.
func (s *session) times(saved *SavedSession) {
	saved.Active = s.active
	if s.unseated && s.state == Live {
		saved.Silent = s.unheard
	}
	if s.state == Live {
		return
	}
	saved.Lost, saved.Ends, saved.Reason = s.lost, s.deadline, s.reason
	for i, e := range s.entries.list() {
		saved.Rooms[i].Ends, saved.Rooms[i].Reason = e.deadline, e.reason
	}
}
