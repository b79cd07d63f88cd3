package presence

import "time"

// A realm's core may end on one node and continue on another (docs/design.md §8). Each core that
// runs the realm has an epoch, and its times are realm time: they go on where the core before
// it ended, and stand still while no core runs.

// SetEpoch makes the core number its links by (epoch, count), so that no two cores of a realm
// give the same number, and save its own times, so that another core can continue. Call it
// before the first input.
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

// StandStill stops the core's time until [Core.GoOn]: nothing falls due, and nobody is blamed
// for silence. Inputs are still applied.
func (c *Core) StandStill(at Instant) {
	c.read(at)
	c.standing = true
}

// StoodStill is StandStill for a time that has passed: nothing of it since the last call counts.
func (c *Core) StoodStill(at Instant) {
	c.standing = true
	c.read(at)
}

// GoOn ends StandStill.
func (c *Core) GoOn(at Instant) {
	c.read(at)
	c.standing = false
}

// Takeover says how far the record of a realm goes from which a core continues.
type Takeover struct {
	// Time is the time of the last core at its last mark: its last sign of life on record.
	Time time.Duration
	// Wall is the time of day of the mark, in Unix milliseconds.
	Wall int64
	// Whole says that the last core handed over, so that the record lacks nothing.
	Whole bool
}

// Continue loads the state that other cores of the realm have recorded into an empty core, whose
// time then stands still. Whoever was live is live at their last link, was heard at the mark, and
// if not idle was active then; a link that no carrier reports ([Core.Reseat], [Core.UnseatOthers])
// is silent. Whoever
// was in grace keeps its reason and what was left of it; but unless the record is whole it lasts
// at least for the grace of a lost link, because a return may be missing in it. Leases begin
// again. The effects say what must be recorded anew in Touched; nobody sees a change.
func (c *Core) Continue(at Instant, saved Saved, from Takeover, out *Effects) error {
	if err := c.mayRestore(saved); err != nil {
		return err
	}
	c.awake, c.standing = from.Time, true
	now := c.read(at)
	for _, room := range saved.Declared {
		c.declare(Declare{room, true})
	}
	seen := len(out.List)
	for _, p := range saved.People {
		c.restorePerson(now, p, out, func(s *session, saved SavedSession) { c.continueSession(now, s, saved, from) })
		for _, s := range c.known(p.User).sessions {
			c.arm(now, s)
		}
	}
	c.restoreMeetings(now, saved.People, true, out)
	clear(out.List[seen:])
	out.List = out.List[:seen]
	if from.Whole {
		clear(out.Touched)
		out.Touched = out.Touched[:0]
	}
	return nil
}

// continueSession gives a restored session the times that it had.
func (c *Core) continueSession(now reading, s *session, saved SavedSession, from Takeover) {
	s.restored = true
	s.active = min(saved.Active, now.awake)
	if saved.Live {
		s.heardWall = max(s.heardWall, from.Wall)
		if !s.idle {
			s.active = now.awake
		}
		if s.leased {
			c.leases++
			return
		}
		s.unheard = now.awake + c.policy.BeatEvery
		if s.unseated = saved.Silent > 0; s.unseated {
			s.unheard = min(s.unheard, saved.Silent)
		}
		s.asked = s.unheard
		return
	}
	c.inGrace++
	s.state, s.reason, s.lost = Grace, saved.Reason, min(saved.Lost, now.awake)
	left := func(ends awakeTime, policy *RoomPolicy) awakeTime {
		ends = min(ends, now.awake+ends-saved.Lost) // what was recorded after the mark has its full grace
		if !from.Whole {
			ends = max(ends, now.awake+policy.GraceLost)
		}
		return ends
	}
	if len(saved.Rooms) == 0 {
		s.deadline = left(saved.Ends, &c.policy.RoomPolicy)
	}
	for _, was := range saved.Rooms {
		e := s.entry(was.Room)
		e.reason, e.deadline = was.Reason, left(was.Ends, e.room().policy)
		if e.deadline > s.deadline {
			s.deadline, s.reason = e.deadline, e.reason
		}
	}
}

// times adds to a saved session when the core's own time will do something with it.
func (s *session) times(saved *SavedSession) {
	saved.Active = s.active
	if s.unseated && s.state == Live {
		saved.Silent = s.unheard
	}
	if s.state == Live {
		return
	}
	saved.Lost, saved.Ends, saved.Reason = s.lost, s.deadline, s.reason
	for i, e := range s.entries {
		saved.Rooms[i].Ends, saved.Rooms[i].Reason = e.deadline, e.reason
	}
}
