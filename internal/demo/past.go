package demo

import (
	"context"
	"os"
	"slices"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/rehearsal"
)

// PastOptions are the settings of a past. All are required.
type PastOptions struct {
	Data   string // the directory of the records
	Length time.Duration
	People int
	Seed   uint64
}

// Before writes what the watch did in the hours before now into records in which nothing has
// happened, as if the service had run then, and returns the pages that are open. People came by
// their shifts; the river rose, and at three in the morning everybody was called in; the mobile
// network was down for a while; a hook failed for the better part of an hour; somebody forgot to
// sign out; and before now all have come together for another night.
//
// It writes nothing into records that have a journal.
func Before(ctx context.Context, o PastOptions) (tabs []rehearsal.Tab, err error) {
	if err := os.MkdirAll(o.Data, 0o700); err != nil {
		return nil, err
	}
	store, err := records.Open(o.Data)
	if err != nil {
		return nil, err
	}
	defer func() {
		if closed := store.Close(); err == nil {
			err = closed
		}
	}()
	if _, last, err := store.JournalEnds(ctx); err != nil || last > 0 {
		return nil, err
	}
	end := time.Now().Truncate(time.Millisecond)
	begin := end.Add(-o.Length)
	night := history{begin: begin, end: end, people: cast(o.People)}
	siren, err := addSiren(store, begin)
	if err != nil {
		return nil, err
	}
	past, err := records.NewPast(store, access.Main, begin, func(w *records.Writer) (records.Outbox, error) {
		hook, err := hooks.New(hooks.Options{Store: store, Outcomes: w})
		return &bygone{hook, begin, night.at(20*time.Hour+30*time.Minute, 21*time.Hour+15*time.Minute)}, err
	})
	if err != nil {
		return nil, err
	}
	past.Act(journal.Entry{At: begin.UnixMilli(), Kind: journal.HookAdded, Note: siren.ID + " siren", By: access.OwnKey})
	for room, expected := range onDuty(night.people) {
		users := make([]presence.UserID, len(expected))
		for i, user := range expected {
			users[i] = presence.UserID(user)
		}
		if err := store.Declare(records.Room{Realm: access.Main, Room: room, Expected: users}); err != nil {
			return nil, err
		}
		past.Act(journal.Entry{At: begin.UnixMilli(), Kind: journal.RoomDeclared, Room: room, By: access.OwnKey})
	}
	script := rehearsal.Script{Policy: Policy(), Begin: begin, Length: o.Length, Seed: o.Seed, Cast: night.characters(), Outages: night.outages(), Tell: past.Record}
	saved, tabs := script.Play()
	return tabs, past.Close(ctx, end, saved)
}

// history is a past of the watch.
type history struct {
	begin, end time.Time
	people     []character
}

// stretch is a part of a past, from its beginning on.
type stretch struct{ from, to time.Duration }

func (s stretch) has(at time.Duration) bool { return s.from <= at && at < s.to }

// at returns the last stretch between two times of the day, by the clock on the wall, that is
// over before the gathering; an empty one if the past has none.
func (h history) at(from, to time.Duration) stretch {
	list := h.each(from, to)
	for _, s := range slices.Backward(list) {
		if s.to <= h.gathers() {
			return s
		}
	}
	return stretch{}
}

// each returns every stretch between two times of the day that lies in the past, at least in
// part. To may be beyond midnight.
func (h history) each(from, to time.Duration) (list []stretch) {
	local := h.begin.Local()
	midnight := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, time.Local)
	length := h.end.Sub(h.begin)
	for day := midnight.AddDate(0, 0, -1); day.Before(h.end); day = day.AddDate(0, 0, 1) {
		s := stretch{max(day.Add(from).Sub(h.begin), 0), min(day.Add(to).Sub(h.begin), length)}
		if s.from < s.to {
			list = append(list, s)
		}
	}
	return list
}

// The shifts of a day on the watch. In the flood everybody is called in, whatever their shift.
var (
	shifts = [][2]time.Duration{{20 * time.Hour, 30*time.Hour + 30*time.Minute}, {5*time.Hour + 30*time.Minute, 14 * time.Hour}, {13*time.Hour + 30*time.Minute, 21 * time.Hour}}
	flood  = [2]time.Duration{2*time.Hour + 30*time.Minute, 5 * time.Hour}
)

// gathering is how long before the end people begin to come for another night.
const gathering = 90 * time.Minute

// gathers returns the time from the beginning of the past to the gathering.
func (h history) gathers() time.Duration {
	length := h.end.Sub(h.begin)
	return length - min(gathering, length/2)
}

// characters returns the people with their shifts and habits. Two shifts of one person never
// overlap.
func (h history) characters() (list []rehearsal.Character) {
	length, last := h.end.Sub(h.begin), h.gathers()
	for i, who := range h.people {
		c := rehearsal.Character{User: who.user, Profile: who.profile, Rooms: who.rooms, Tabs: who.tabs, Stream: i%7 == 3, Ends: []rehearsal.End{rehearsal.Closes, rehearsal.SaysBye, rehearsal.Closes, rehearsal.Dies}[i%4]}
		if i == forgetful {
			c.Ends = rehearsal.Forgets
		}
		var on []stretch
		add := func(s stretch) {
			s.to = min(s.to, last-time.Duration(i)*20*time.Second)
			if s.to-s.from > 10*time.Minute && !slices.ContainsFunc(on, func(o stretch) bool { return s.from < o.to && o.from < s.to }) {
				on = append(on, s)
			}
		}
		own := shifts[i%len(shifts)]
		for _, s := range h.each(own[0], own[1]) {
			s.from += time.Duration(i*i%17) * time.Minute // nobody comes on the dot
			add(s)
		}
		if i%5 != 4 {
			for _, s := range h.each(flood[0], flood[1]) {
				s.from += time.Duration(i*i%11) * time.Minute
				add(s)
			}
		}
		for _, s := range on {
			c.Shifts = append(c.Shifts, rehearsal.Shift{From: s.from, To: s.to})
		}
		c.Shifts = append(c.Shifts, rehearsal.Shift{From: last + time.Duration(i*37%60)*(length-last)/100, To: 2 * length})
		c.Habits = habits(who)
		list = append(list, c)
	}
	return list
}

// forgetful is who forgets to sign out.
const forgetful = 7

// habits returns what happens to the pages of a person. Steady people reload, too, but are not
// lost for long.
func habits(who character) rehearsal.Habits {
	spread := func(median time.Duration, sigma float64) rehearsal.Spread {
		return rehearsal.Spread{Median: median, Sigma: sigma}
	}
	h := rehearsal.Habits{
		Every:      spread(4*time.Minute, 0.6),
		Closing:    rehearsal.Incident{Weight: 9, Gap: spread(450*time.Millisecond, 0.9), Never: 0.04},
		Lost:       rehearsal.Incident{Weight: 4, Gap: spread(2500*time.Millisecond, 1), Never: 0.05},
		Background: rehearsal.Incident{Weight: 2, Gap: spread(20*time.Second, 0.9), Never: 0.05},
		Typing:     rehearsal.Incident{Weight: 12, Gap: spread(9*time.Second, 0.7), Never: 0.15},
		Quiet:      rehearsal.Incident{Weight: 3, Gap: spread(9*time.Minute, 0.6)},
		Moves:      rehearsal.Incident{Weight: 2, Gap: spread(7*time.Minute, 0.5)},
		Input:      spread(time.Minute, 0.4),
	}
	if who.steady {
		h.Status, h.Notes = rehearsal.Incident{Weight: 2, Gap: spread(4*time.Minute, 0.5)}, []string{"at the gauge", "on the radio", "at the pumps"}
		h.Closing.Never, h.Lost.Never, h.Background.Never = 0, 0, 0
	}
	return h
}

// outages returns the time in which the mobile network was down, for people in the open.
func (h history) outages() []rehearsal.Outage {
	down := h.at(3*time.Hour+20*time.Minute, 3*time.Hour+24*time.Minute)
	if down == (stretch{}) {
		return nil
	}
	return []rehearsal.Outage{{From: down.from, For: down.to - down.from, Hits: func(c *rehearsal.Character) bool { return c.Rooms[0] != "desk.night" && c.Tabs == 1 }}}
}

// addSiren adds the hook of the siren. When the watch goes on it gets the siren's address.
func addSiren(store *records.Store, at time.Time) (*records.Hook, error) {
	h := &records.Hook{ID: "hook-siren", Realm: access.Main, Name: sirenHook.Name, URL: "http://127.0.0.1:9/siren", Kinds: sirenHook.Kinds, View: sirenHook.View, Secret: hooks.NewSecret(), Created: at.UnixMilli()}
	for _, room := range sirenHook.Rooms {
		h.Rooms = append(h.Rooms, presence.Pattern(room))
	}
	return h, store.PutHook(h)
}

// bygone makes deliveries that are over: each was delivered at once, except in a time in which
// the siren did not answer.
type bygone struct {
	*hooks.Dispatcher
	begin  time.Time
	failed stretch
}

// Deliveries implements [records.Outbox].
func (b *bygone) Deliveries(a *journal.Announcement) []records.Delivery {
	list := b.Dispatcher.Deliveries(a)
	for i := range list {
		d := &list[i]
		d.State, d.Attempts, d.Tried, d.Answered, d.Took = records.Delivered, 1, d.Created+4, 204, 3
		if at := time.UnixMilli(d.Created).Sub(b.begin); b.failed.has(at) { // and once more when it was well again
			d.Attempts = 2 + int((b.failed.to-at)/(10*time.Minute))
			d.Tried = b.begin.Add(b.failed.to).UnixMilli() + int64(d.Attempts)*700
		}
	}
	return list
}

// Committed implements [records.Outbox]. Nothing is left to send.
func (b *bygone) Committed([]records.Delivery) {}
