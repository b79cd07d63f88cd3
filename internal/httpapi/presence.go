package httpapi

import (
	"fmt"
	"slices"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// mostAsked is how many rooms or people one call may name.
const mostAsked = 1000

// counts tells how many are in each of many rooms.
func (a *API) counts(c fiber.Ctx) error {
	var asked wire.CountsAsked
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	if len(asked.Rooms) == 0 || len(asked.Rooms) > mostAsked {
		return badField("rooms", fmt.Sprint(len(asked.Rooms)), "so many rooms cannot be counted at once", "1 to 1000 rooms")
	}
	doc := wire.Counts{Counts: make([]wire.Room, len(asked.Rooms))}
	for i, name := range asked.Rooms {
		room, err := presence.ParseRoom(name)
		if err != nil {
			return err
		}
		if !operatorOf(c).Sees(presence.Pattern(room)) {
			return unknownRoom(room)
		}
		count, _ := realmOf(c).Engine.Count(engine.Topic{Room: room, View: presence.Full})
		doc.Counts[i] = wire.Room{Room: name, Count: delivery.Count(count)}
	}
	return listed(c, doc, doc.Counts)
}

// statuses tells what is seen of each of many people, also of those whom nobody knows,
// who are offline.
func (a *API) statuses(c fiber.Ctx) error {
	var asked wire.StatusesAsked
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	if len(asked.Users) == 0 || len(asked.Users) > mostAsked {
		return badField("users", fmt.Sprint(len(asked.Users)), "so many people cannot be asked about at once", "1 to 1000 people")
	}
	doc := wire.Statuses{Statuses: make([]wire.PersonStatus, len(asked.Users))}
	for i, name := range asked.Users {
		user := presence.UserID(norm.NFC.String(name))
		if err := presence.CheckUser(user); err != nil {
			return err
		}
		doc.Statuses[i] = statusOf(realmOf(c), user)
	}
	return listed(c, doc, doc.Statuses)
}

func statusOf(realm *gateway.Realm, user presence.UserID) wire.PersonStatus {
	sight := realm.Engine.SightNow(engine.Subject{User: user, View: presence.Full})
	doc := wire.PersonStatus{User: string(user), Status: string(sight.Status), Note: sight.Note, Until: milliseconds(sight.Until)}
	if !sight.LastSeen.IsZero() {
		doc.LastSeen = &wire.Time{Time: sight.LastSeen}
	}
	return doc
}

// setStatus sets what others see of a person, in their place.
func (a *API) setStatus(c fiber.Ctx) error {
	var asked wire.StatusWanted
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	if asked.Status == "" {
		return badField("status", "", "there is no status to set", "busy, away; DELETE lets it follow the sessions again")
	}
	in := presence.SetStatus{Status: presence.Status(asked.Status), Note: asked.Note}
	if asked.Until != nil {
		in.Until = asked.Until.UnixMilli()
	}
	return a.putStatus(c, in)
}

// clearStatus lets a person's status follow their sessions again.
func (a *API) clearStatus(c fiber.Ctx) error { return a.putStatus(c, presence.SetStatus{}) }

func (a *API) putStatus(c fiber.Ctx, in presence.SetStatus) (err error) {
	if in.User, err = personOf(c); err != nil {
		return err
	}
	realm := realmOf(c)
	if _, err := realm.Engine.Do(c.Context(), in); err != nil {
		return err
	}
	if err := a.writer.Sync(c.Context()); err != nil {
		return gateway.NotRecorded("it holds, but will not outlast a restart of the service until the records can be written", err)
	}
	return c.JSON(statusOf(realm, in.User))
}

// sessions lists who is connected, over what and since when, by person; with room= those
// in a room.
func (a *API) sessions(c fiber.Ctx) error {
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	room, err := oneRoomIn(c)
	if err != nil {
		return err
	}
	realm := realmOf(c)
	var users []presence.UserID
	if room == "" {
		users = realm.Engine.Known()
	} else {
		for _, m := range realm.Engine.MembersNow(room) {
			users = append(users, m.User)
		}
	}
	slices.Sort(users)
	from, found := slices.BinarySearch(users, presence.UserID(norm.NFC.String(c.Query("after"))))
	if found {
		from++
	}
	doc := wire.Sessions{Sessions: []wire.Session{}}
	for i, user := range users[from:] {
		if len(doc.Sessions) >= limit { // a person's are not divided
			doc.Next = string(users[from+i-1])
			break
		}
		for _, e := range realm.Engine.Explain(user, room).Sessions {
			e.Rooms = slices.DeleteFunc(e.Rooms, func(room presence.RoomName) bool { return !operatorOf(c).Sees(presence.Pattern(room)) })
			e.Next = slices.DeleteFunc(e.Next, func(next presence.Upcoming) bool {
				return next.Room != "" && !operatorOf(c).Sees(presence.Pattern(next.Room))
			})
			doc.Sessions = append(doc.Sessions, delivery.Session(e))
		}
	}
	return listed(c, doc, doc.Sessions)
}

// sessionsOf lists those of one person.
func (a *API) sessionsOf(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	doc := wire.Sessions{Sessions: []wire.Session{}}
	for _, e := range realmOf(c).Engine.Explain(user, "").Sessions {
		doc.Sessions = append(doc.Sessions, delivery.Session(e))
	}
	return listed(c, doc, doc.Sessions)
}

// policies tells what applies where; with room= to one room, and why.
func (a *API) policies(c fiber.Ctx) error {
	p := realmOf(c).Engine.Policy()
	room, err := oneRoomIn(c)
	if err != nil {
		return err
	}
	if name := c.Query("room"); name != "" {
		own := p.For(room)
		doc := policyDocument(p, own)
		doc.Room = name
		for i := range p.Rooms {
			if own == &p.Rooms[i].RoomPolicy {
				doc.Pattern = string(p.Rooms[i].Pattern)
			}
		}
		list := []wire.Policy{doc}
		return listed(c, wire.Policies{Policies: list}, list)
	}
	doc := wire.Policies{Policies: []wire.Policy{policyDocument(p, &p.RoomPolicy)}}
	for i := range p.Rooms {
		one := policyDocument(p, &p.Rooms[i].RoomPolicy)
		one.Pattern = string(p.Rooms[i].Pattern)
		doc.Policies = append(doc.Policies, one)
	}
	return listed(c, doc, doc.Policies)
}

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
