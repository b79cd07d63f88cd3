package conform

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Scenarios returns all scenarios, in the order of docs/protocol.md.
func Scenarios() []Scenario { return slices.Clone(scenarios) }

func member(user string) frame {
	return frame{"user": user, "name": "Ilse Marrow", "status": "online", "since": "2026-11-14T19:00:00.000Z", "sessions": 1}
}

func members(users ...string) []frame {
	list := make([]frame, 0, len(users))
	for _, user := range users {
		list = append(list, member(user))
	}
	return list
}

func count(people int) frame {
	all, none := frame{"people": people, "sessions": people}, frame{"people": 0, "sessions": 0}
	return frame{"people": people, "sessions": people, "online": all, "away": none, "busy": none}
}

func snapshot(rev string, users ...string) frame {
	return frame{"type": "snapshot", "room": room, "rev": rev, "count": count(len(users)), "members": members(users...)}
}

// changes are changes of a room; what has more fields.
func changes(prev, rev string, what frame) frame {
	f := frame{"type": "changes", "room": room, "rev": rev, "prev": prev, "at": "2026-11-14T19:05:00.020Z", "count": count(1)}
	for name, value := range what {
		f[name] = value
	}
	return f
}

func left(users ...string) []frame {
	var list []frame
	for _, user := range users {
		list = append(list, frame{"user": user, "status": "offline", "reason": "bye"})
	}
	return list
}

// opens lets the client open its first link, and shows it e-01 and w-04 at revision R.1.
func (s *stage) opens() *link {
	l := s.link()
	l.answer(l.hello(), nil)
	l.say(snapshot("R.1", "e-01", "w-04"))
	s.shows("e-01", "w-04")
	return l
}

// moves tells a link to come back later, closes it, and returns the next one.
func (s *stage) moves(l *link, code int) *link {
	const after = 1500 * time.Millisecond
	l.say(frame{"type": "moving", "after": after.Milliseconds()})
	told := time.Now()
	l.close(code, "")
	l = s.link()
	if waited := time.Since(told); waited < after-100*time.Millisecond {
		s.fail("it came back after %d ms, and should wait for %d", waited.Milliseconds(), after.Milliseconds())
	}
	return l
}

// resumes waits for the next link, whose hello must resume the session, and answers it.
func (s *stage) resumes(number int, more frame) (*link, frame) {
	l := s.link()
	hello := l.hello()
	s.sameSession(hello, "session-1", "key-1")
	answer := frame{"link": number}
	for name, value := range more {
		answer[name] = value
	}
	l.answer(hello, answer)
	return l, hello
}

func (s *stage) sameSession(hello frame, session, key string) {
	resume, _ := hello["resume"].(map[string]any)
	if resume["session"] != session || resume["resume_key"] != key {
		s.fail("its hello should resume %s with %s; it has resume %v", session, key, hello["resume"])
	}
}

// refusesHello answers a hello with an error, and closes the link as the service does.
func (l *link) refusesHello(hello frame, code string) {
	l.say(frame{"type": "error", "re": hello["id"], "code": code, "detail": "a scenario", "help": "/problems/" + code})
	l.close(4701, code)
}

// again returns what asks for a room again: a join or watch, or a new hello that does not claim to have its list.
func (s *stage) again(l *link) *link {
	deadline := time.After(s.options.Patience)
	for {
		select {
		case f := <-l.frames:
			if (f["type"] == "join" || f["type"] == "watch") && f["room"] == room {
				l.say(frame{"type": "answer", "re": f["id"]})
				return l
			}
		case next := <-s.links:
			hello := next.hello()
			if revs, _ := hello["revs"].(map[string]any); revs[room] != nil && revs[room] != "R.1" {
				s.fail("its next hello claims the revision %v, which it cannot have", revs[room])
			}
			next.answer(hello, frame{"link": 2})
			return next
		case <-deadline:
			s.fail("it should send watch or join for the room again, or open another link; it did neither within %v", s.options.Patience)
		}
	}
}

const (
	sectionFrames   = "frames"
	sectionHello    = "hello"
	sectionService  = "what-the-service-sends"
	sectionResuming = "resuming"
	sectionLarge    = "large-rooms"
	sectionErrors   = "errors"
	sectionRequests = "requests"
)

var scenarios = []Scenario{
	{"frames.unknown-field", sectionFrames, "Unknown fields are ignored", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), frame{"weather": "rain"})
		f := snapshot("R.1", "e-01")
		f["level"] = 2.31
		f["members"].([]frame)[0]["boots"] = true
		l.say(f)
		s.shows("e-01")
		l.say(changes("R.1", "R.2", frame{"joined": members("w-04"), "moon": "new"}))
		s.shows("e-01", "w-04")
	}},
	{"frames.unknown-type", sectionFrames, "A client passes over types of frames that it does not know", func(s *stage) {
		l := s.opens()
		l.say(frame{"type": "tide", "room": room, "metres": 2.31})
		l.say(changes("R.1", "R.2", frame{"left": left("w-04")}))
		s.shows("e-01")
	}},

	{"hello.first", sectionHello, "The first frame is hello, with version 1, a token and the rooms", func(s *stage) {
		l := s.link()
		hello := l.hello()
		rooms, _ := hello["rooms"].([]any)
		switch token, _ := hello["token"].(string); {
		case hello["version"] != 1.0:
			s.fail("version is %v, and must be the number 1", hello["version"])
		case !strings.HasPrefix(token, "token-"):
			s.fail("token is %q, and must be one that TOKENS gave", token)
		case !slices.Contains(rooms, any(room)):
			s.fail("rooms is %v, and must have %s", hello["rooms"], room)
		}
		l.answer(hello, nil)
		s.is("open")
	}},
	{"hello.id", sectionHello, "A hello is a request: its answer repeats its id as re", func(s *stage) {
		l := s.link()
		hello := l.hello()
		l.say(frame{"type": "answer", "re": "of another request"})
		l.answer(hello, nil)
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
		s.is("open")
	}},
	{"hello.waits", sectionHello, "A hello may take a while: the client waits for its answer", func(s *stage) {
		l := s.link()
		hello := l.hello()
		s.stays("its hello was not answered yet, after a moment only")
		l.answer(hello, nil)
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
	}},
	{"hello.nonce", sectionHello, "The nonce is the same on each link of a run, and another one in another run", func(s *stage) {
		l := s.link()
		first := l.hello()
		nonce, _ := first["nonce"].(string)
		if nonce == "" || len(nonce) > 64 {
			s.fail("nonce is %v, and must be text of at most 64 bytes", first["nonce"])
		}
		l.answer(first, nil)
		s.is("open")
		l.cut()
		l = s.link()
		second := l.hello()
		if second["nonce"] != nonce {
			s.fail("nonce was %q, and is %v on the next link of the same run", nonce, second["nonce"])
		}
		l.answer(second, frame{"link": 2})
		s.stop()
		s.run()
		third := s.link().hello()
		if third["nonce"] == nonce || third["nonce"] == nil {
			s.fail("nonce is %v in another run, as in the first", third["nonce"])
		}
	}},
	{"hello.resume", sectionHello, "After a loss the hello resumes the session, with the key of the last answer", func(s *stage) {
		l := s.opens()
		l.cut()
		l, _ = s.resumes(2, nil)
		l.say(snapshot("R.2", "e-01"))
		s.shows("e-01")
		s.is("open")
	}},
	{"hello.resume-key", sectionHello, "Each answer brings the resume key for the next hello", func(s *stage) {
		l := s.opens()
		l.cut()
		l, _ = s.resumes(2, frame{"resume_key": "key-2"})
		l.say(snapshot("R.2", "e-01"))
		s.shows("e-01")
		l.cut()
		s.sameSession(s.link().hello(), "session-1", "key-2")
	}},
	{"hello.reload", sectionHello, "The session survives a reload: another run resumes it", func(s *stage) {
		s.opens()
		s.stop()
		s.run()
		l, _ := s.resumes(2, nil)
		l.say(snapshot("R.2", "e-01"))
		s.shows("e-01")
	}},
	{"hello.not-resumed", sectionHello, "A session that is unknown is not resumed: the new one takes its place", func(s *stage) {
		l := s.opens()
		l.cut()
		l = s.link()
		l.answer(l.hello(), frame{"session": "session-2", "resume_key": "key-of-2", "resumed": false, "not_resumed": "unknown"})
		l.say(snapshot("S.1", "w-09"))
		s.shows("w-09")
		l.cut()
		s.sameSession(s.link().hello(), "session-2", "key-of-2")
	}},
	{"hello.duplicate", sectionHello, "A duplicated tab gets a session of its own (in-use), and keeps that one", func(s *stage) {
		s.opens()
		s.stop()
		s.run()
		l := s.link()
		l.answer(l.hello(), frame{"session": "session-2", "resume_key": "key-of-2", "resumed": false, "not_resumed": "in-use"})
		l.say(snapshot("R.2", "e-01", "w-17"))
		s.shows("e-01", "w-17")
		s.stop()
		s.run()
		s.sameSession(s.link().hello(), "session-2", "key-of-2")
	}},

	{"requests.bye", sectionRequests, "bye ends the session; the client does not come back", func(s *stage) {
		l := s.opens()
		s.asks("bye")
		f := l.expect("bye")
		l.say(frame{"type": "answer", "re": f["id"]})
		l.close(1000, "bye")
		s.stays("the user has ended the session")
	}},
	{"requests.bye-forgets", sectionRequests, "A session that was ended with bye is not resumed", func(s *stage) {
		l := s.opens()
		s.asks("bye")
		l.expect("bye")
		l.close(1000, "bye")
		s.is("closed")
		s.stop()
		s.run()
		if hello := s.link().hello(); hello["resume"] != nil {
			s.fail("its hello should open a new session; it resumes %v", hello["resume"])
		}
	}},

	{"list.snapshot", sectionService, "A room starts with a snapshot, which has all its members", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), nil)
		l.say(snapshot("R.1", "e-01", "w-04", "w-09"))
		s.shows("e-01", "w-04", "w-09")
	}},
	{"list.empty", sectionService, "A snapshot with an empty rev means that the room is empty", func(s *stage) {
		l := s.opens()
		l.say(snapshot(""))
		s.shows()
	}},
	{"list.changes", sectionService, "joined is inserted, left is removed, in the order of the revisions", func(s *stage) {
		l := s.opens()
		l.say(changes("R.1", "R.2", frame{"joined": members("w-09")}))
		l.say(changes("R.2", "R.3", frame{"left": left("e-01")}))
		l.say(changes("R.3", "R.4", frame{"joined": members("e-01"), "left": left("w-09", "w-04")}))
		s.shows("e-01")
	}},
	{"list.changed", sectionService, "changed is inserted by user: it replaces who is there, once", func(s *stage) {
		l := s.opens()
		l.say(changes("R.1", "R.2", frame{"changed": members("w-04", "w-09")}))
		s.shows("e-01", "w-04", "w-09")
	}},
	{"list.doing", sectionService, "Changes of what members are doing alone have revisions, too", func(s *stage) {
		l := s.opens()
		l.say(changes("R.1", "R.2", frame{"doing": []frame{{"user": "e-01", "doing": frame{"page": 4}}, {"user": "w-04", "doing": nil}}}))
		l.say(changes("R.2", "R.3", frame{"joined": members("w-09")}))
		s.shows("e-01", "w-04", "w-09")
	}},
	{"list.snapshot-again", sectionService, "A snapshot may come at any time, and replaces what the client has", func(s *stage) {
		l := s.opens()
		l.say(snapshot("R.9", "w-09"))
		s.shows("w-09")
		l.say(changes("R.9", "R.10", frame{"joined": members("w-04")}))
		s.shows("w-04", "w-09")
	}},
	{"list.opaque", sectionService, "rev is opaque: it may be any text, and need not grow", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), nil)
		l.say(snapshot("9~ø", "e-01"))
		l.say(changes("9~ø", "1", frame{"joined": members("w-04")}))
		s.shows("e-01", "w-04")
	}},
	{"list.gap", sectionService, "Changes that follow another revision are not applied: ask for the room again", func(s *stage) {
		l := s.opens()
		l.say(changes("R.7", "R.8", frame{"joined": members("w-99")}))
		l = s.again(l)
		l.say(snapshot("R.8", "e-01", "w-09"))
		s.shows("e-01", "w-09")
		l.say(changes("R.8", "R.9", frame{"left": left("w-09")}))
		s.shows("e-01")
	}},
	{"list.other-rooms", sectionService, "Frames of another room change nothing in this one", func(s *stage) {
		l := s.opens()
		other := snapshot("X.1", "w-30")
		other["room"] = "desk.night"
		l.say(other)
		l.say(changes("R.1", "R.2", frame{"joined": members("w-09")}))
		s.shows("e-01", "w-04", "w-09")
	}},
	{"list.typing", sectionService, "Who types is told as the whole set, also of people who are not listed", func(s *stage) {
		l := s.opens()
		l.say(frame{"type": "typing", "room": room, "users": []string{"w-04", "nobody-here"}})
		l.say(frame{"type": "typing", "room": room, "users": []string{}})
		l.say(changes("R.1", "R.2", frame{"left": left("w-04")}))
		s.shows("e-01")
	}},
	{"list.dropped", sectionService, "A dropped room is no longer delivered: its list is not shown as if it were", func(s *stage) {
		l := s.opens()
		l.say(frame{"type": "dropped", "room": room, "code": "removed", "detail": "you were removed from this room", "help": "/problems/removed"})
		s.shows()
		s.is("open")
	}},
	{"list.big", sectionService, "A snapshot of a thousand members is one frame", func(s *stage) {
		var users []string
		for i := range 1000 {
			users = append(users, fmt.Sprintf("w-%04d", i))
		}
		l := s.link()
		l.answer(l.hello(), nil)
		l.say(snapshot("R.1", users...))
		s.shows(users...)
		l.say(changes("R.1", "R.2", frame{"left": left(users[1:]...)}))
		s.shows("w-0000")
	}},

	{"service.expiring", sectionService, "Before the token expires the service says so: renew, with another token", func(s *stage) {
		l := s.link()
		hello := l.hello()
		l.answer(hello, nil)
		s.is("open")
		l.say(frame{"type": "expiring", "expires": "2026-11-14T19:10:00.000Z"})
		f := l.expect("renew")
		if f["token"] == hello["token"] || !strings.HasPrefix(fmt.Sprint(f["token"]), "token-") {
			s.fail("token is %v, and must be a newer one", f["token"])
		}
		l.say(frame{"type": "answer", "re": f["id"]})
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
	}},
	{"service.moving", sectionService, "After moving, come back after that many milliseconds, and resume", func(s *stage) {
		l := s.moves(s.opens(), 1012)
		hello := l.hello()
		s.sameSession(hello, "session-1", "key-1")
		l.answer(hello, frame{"link": 2})
		l.say(snapshot("S.1", "w-09"))
		s.shows("w-09")
	}},
	{"service.no-place", sectionService, "Moving may come instead of the first answer: come back after that many milliseconds", func(s *stage) {
		l := s.link()
		l.hello()
		l = s.moves(l, 1013)
		l.answer(l.hello(), nil)
		l.say(snapshot("R.1", "w-09"))
		s.shows("w-09")
	}},
	{"service.beat", sectionService, "A beat is answered with the same frame", func(s *stage) {
		l := s.opens()
		for range 3 {
			l.say(frame{"type": "beat"})
			l.expect("beat")
		}
	}},
	{"service.beat-before-list", sectionService, "Beats are answered as soon as there is a link", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), nil)
		l.say(frame{"type": "beat"})
		l.expect("beat")
	}},
	{"service.silence", sectionService, "Whoever has received nothing for silence has a dead link: open a new one and resume", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), frame{"timings": timings(1000)})
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
		l, _ = s.resumes(2, nil)
		l.say(snapshot("R.1", "e-01", "w-04"))
		s.shows("e-01", "w-04")
	}},
	{"service.silence-not-sooner", sectionService, "Any frame is a sign of life: a link that is told something is not dead", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), frame{"timings": timings(10_000)})
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
		s.stays("silence is 10 s, and the service has said something a moment ago")
		l.say(changes("R.1", "R.2", frame{"joined": members("w-04")}))
		s.shows("e-01", "w-04")
	}},

	{"resuming.revs", sectionResuming, "A client that returns says the revisions that it has", func(s *stage) {
		l := s.opens()
		l.say(changes("R.1", "R.2", frame{"joined": members("w-09")}))
		s.shows("e-01", "w-04", "w-09")
		l.cut()
		hello := s.link().hello()
		if revs, _ := hello["revs"].(map[string]any); revs[room] != "R.2" {
			s.fail("revs is %v, and must say that it has %s at R.2", hello["revs"], room)
		}
	}},
	{"resuming.current", sectionResuming, "current: nothing follows, and the list stays as it is", func(s *stage) {
		l := s.opens()
		l.cut()
		l, _ = s.resumes(2, frame{"revs": frame{room: "current"}})
		s.is("open")
		s.shows("e-01", "w-04")
		l.say(changes("R.1", "R.2", frame{"left": left("w-04")}))
		s.shows("e-01")
	}},
	{"resuming.changes", sectionResuming, "changes: those that were missed follow", func(s *stage) {
		l := s.opens()
		l.cut()
		l, _ = s.resumes(2, frame{"revs": frame{room: "changes"}})
		l.say(changes("R.1", "R.2", frame{"joined": members("w-09")}))
		l.say(changes("R.2", "R.3", frame{"left": left("e-01")}))
		s.shows("w-04", "w-09")
	}},
	{"resuming.new-run", sectionResuming, "new-run: a snapshot replaces the list of before the restart", func(s *stage) {
		l := s.opens()
		l.cut()
		l, _ = s.resumes(2, frame{"revs": frame{room: "new-run"}})
		l.say(snapshot("Z.1", "w-30"))
		s.shows("w-30")
		l.say(changes("Z.1", "Z.2", frame{"joined": members("e-01")}))
		s.shows("e-01", "w-30")
	}},

	{"large.first-page", sectionLarge, "A large room has its first members, and counts follow", func(s *stage) {
		l := s.link()
		l.answer(l.hello(), nil)
		f := snapshot("R.1", "w-0001", "w-0002")
		f["count"], f["next"] = count(4000), "w-0002"
		l.say(f)
		s.shows("w-0001", "w-0002")
		c := count(4001)
		c["type"], c["room"], c["rev"] = "count", room, "R.2"
		l.say(c)
		l.say(frame{"type": "beat"})
		l.expect("beat")
		s.is("open")
	}},

	{"errors.request", sectionErrors, "After a hello an error leaves the link open", func(s *stage) {
		l := s.opens()
		l.say(frame{"type": "error", "code": "not-granted", "detail": "the token does not grant this", "help": "/problems/not-granted"})
		l.say(changes("R.1", "R.2", frame{"left": left("w-04")}))
		s.shows("e-01")
		s.is("open")
	}},
	{"errors.passing", sectionErrors, "A hello that was refused with busy may succeed later: try again, as after a loss", func(s *stage) {
		l := s.link()
		l.refusesHello(l.hello(), "busy")
		l = s.link()
		l.refusesHello(l.hello(), "not-ready")
		l = s.link()
		l.answer(l.hello(), nil)
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
	}},
	{"errors.final", sectionErrors, "A hello refused with any other code would be refused again: stop, and say so", func(s *stage) {
		l := s.link()
		l.refusesHello(l.hello(), "bad-version")
		s.is("refused", "closed")
		s.stays("its hello was refused for good")
	}},
	{"errors.pauses", sectionErrors, "Whoever is refused tries again after pauses that grow, and not at once for ever", func(s *stage) {
		const most = 12
		s.refuses.Store(true)
		s.stop()
		s.run()
		for deadline := time.Now().Add(s.options.Patience); s.refused.Load() == 0; time.Sleep(10 * time.Millisecond) {
			if time.Now().After(deadline) {
				s.fail("it should try to connect; it did not within %v", s.options.Patience)
			}
		}
		select {
		case <-s.ctx.Done():
		case <-time.After(3 * time.Second):
		}
		if n := s.refused.Load(); n > most {
			s.fail("it tried %d times within 3 s; at most %d are no storm", n, most)
		}
		s.refuses.Store(false)
		l := s.link()
		l.answer(l.hello(), nil)
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
	}},

	{"closed.cut", sectionErrors, "A link that is cut without a word is a loss: come back", func(s *stage) {
		l := s.opens()
		l.cut()
		l, _ = s.resumes(2, nil)
		l.say(snapshot("R.1", "e-01", "w-04"))
		s.is("open")
	}},
	{"closed.1012", sectionErrors, "1012: the service restarts: come back", func(s *stage) {
		l := s.opens()
		l.close(1012, "")
		s.resumes(2, nil)
		s.is("open")
	}},
	{"closed.4702", sectionErrors, "4702: the token has expired: come back with another one, and resume", func(s *stage) {
		l := s.link()
		first := l.hello()
		l.answer(first, nil)
		l.say(snapshot("R.1", "e-01"))
		s.shows("e-01")
		l.close(4702, "expired")
		_, second := s.resumes(2, nil)
		if second["token"] == first["token"] {
			s.fail("token is %v again, which has expired", second["token"])
		}
	}},
	{"closed.4704", sectionErrors, "4704: the beats were not answered, as on a machine that slept: come back, and resume", func(s *stage) {
		l := s.opens()
		l.close(4704, "silent")
		s.resumes(2, nil)
		s.is("open")
	}},
	{"closed.4706", sectionErrors, "4706: the session was ended: do not come back unless the user asks", func(s *stage) {
		l := s.opens()
		l.close(4706, "removed")
		s.is("closed", "refused")
		s.stays("the session was ended by somebody else")
	}},
}
