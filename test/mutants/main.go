// Command mutants breaks each rule by changing one line, and runs the tests that protect it. Every
// mutant must be caught. Most rules are those of presence, in the core. It changes no file: the
// compiler gets the broken line in an overlay.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
)

const core = "internal/presence"

// mutant is a rule and the line that breaks it. A file without a directory is in the core.
type mutant struct{ rule, file, old, broken string }

// protectors are the package and tests that must catch a mutant outside of the core. Without an
// entry the tests beside the file protect the rule.
var protectors = map[string][2]string{
	"an entry says which session came or went":                {"./internal/timing", "LeavesOnRecord|WhatIf"},
	"an entry says that the page was in the background":       {"./internal/journal", "SaysWhatHappened"},
	"a replay stops and starts with the service":              {"./internal/timing", "Restarts"},
	"a replay stands still with the machine":                  {"./internal/timing", "Restarts"},
	"an erasure deletes what others did with the person":      {"./internal/server", "EverythingAbout"},
	"a removal ends what a link follows as a member":          {"./internal/server", "ARemovalEnds"},
	"a removal ends what a link watches":                      {"./internal/server", "ARemovalEnds"},
	"a key about some rooms reaches nothing of the realm":     {"./internal/server", "EveryRouteIsOpen"},
	"a busy room seals together what comes together":          {"./internal/delivery", "OppositeChangesWithinTheWindow"},
	"somebody who comes gets a state that is sealed":          {"./internal/delivery", "JoinerOfABusyRoom"},
	"a setting that needs a restart is not taken by a reload": {"./internal/server", "ReloadedWhole"},
	"who comes again in another block is one visitor":         {"./internal/records", "HeadcountsAreWhatWasThere"},
	"who goes and comes again is no new visitor":              {"./internal/records", "HeadcountsAreWhatWasThere"},
	"who else follows does not decide when a count is told":   {"./internal/delivery", "NeitherOfWhoHides"},
	"those who hide leave no rhythm among people":             {"./internal/delivery", "NeitherOfWhoHides"},
	"a watched person is told as of the last seal":            {"./internal/delivery", "NeitherOfWhoHides"},
	"a room that may not be watched is not":                   {"./internal/server", "AdmitsWatchersToo"},
	"a hello is withdrawn when its connection ends":           {"./internal/server", "AnAbandonedHello"},
	"a hello over HTTP is withdrawn when its connection ends": {"./internal/server", "AnAbandonedHello"},
	"an answer that is known is not sent again":               {"./internal/server", "WhoeverHasAnAnswer"},
	"a request of a wrong kind is answered by its id":         {"./internal/server", "EveryRequestWithAReadable"},
	"only a page of the console shows its cookie":             {"./internal/server", "ASignInIsACookie"},
	"asks are told to those who may admit":                    {"./internal/delivery", "AsksAreTold"},
	"who does not follow doing gets none":                     {"./internal/server", "DoingIsNumbered"},
	"a wildcard leaves out rooms that ask":                    {"./internal/server", "ARoomThatAsks"},
	"a removal ends what is followed at all nodes":            {"./internal/realm", "CommandsGoThroughTheLog"},
	"a question that nobody answers is an error":              {"./internal/realm", "CommandsGoThroughTheLog"},
	"a removal holds for early tokens without a session":      {"./internal/server", "EarlyToken"},
	"a restart brings back sessions, which are counted":       {"./internal/headcount", ""},
	"a second sign of loss is no second loss":                 {"./internal/headcount", ""},
	"a new owner delivers what waits":                         {"./internal/cluster/stored", "HooksKeys"},
	"who owns a realm no longer delivers for it":              {"./internal/cluster/stored", "HooksKeys"},
	"only who agreed gets compressed frames":                  {"./internal/server", "LongFrames"},
	"a namesake that is not heard for a while may live":       {"./internal/server", "Namesake"},
	"a node that does not answer may hear a namesake":         {"./internal/server", "Namesake"},
	"a namesake lives that is said late to have been heard":   {"./internal/server", "Namesake"},
	"a node waits longer for its first answer":                {"./internal/server", "Namesake"},
	"a limit that passes while a link is busy counts":         {"./internal/transport", "ALimitHolds"},
	"reading TLS keeps no worker":                             {"./internal/transport", "ReadingTLS"},
	"a stream needs no place among links without a hello":     {"./internal/server", "WithoutAPlace"},
	"a link without a place is told when to come back":        {"./internal/server", "WithoutAPlace"},
}

var mutants = []mutant{
	{"a second sign of loss never lengthens a grace", "grace.go", "!again || at < *deadline", "true"},
	{"a second sign of loss may shorten a grace", "grace.go", "!again || at < *deadline", "!again"},
	{"the session ends after the longest grace of its rooms", "grace.go", "if e.deadline > s.deadline {", "if s.deadline == 0 {"},
	{"closing ends typing", "grace.go", "if reason == ReasonClosing {", "if false {"},
	{"a beacon needs the key", "grace.go", "!s.key.is(in.Key) || s.nonce != in.Nonce", "s.nonce != in.Nonce"},
	{"a beacon of an older page changes nothing", "grace.go", "!s.key.is(in.Key) || s.nonce != in.Nonce", "!s.key.is(in.Key)"},
	{"a bye note needs the key", "grace.go", "s == nil || !s.key.is(in.Key) {", "s == nil {"},
	{"who is not seen is not counted among links", "carried.go", "view == Full || !s.person.hidden", "true"},
	{"silence counts from the first unanswered request", "grace.go", "s.leased || s.unheard > 0 || s.heard > s.asked", "s.leased || s.heard > s.asked"},
	{"a closing page has the grace of closing", "policy.go", "return p.GraceClosing", "return p.GraceLost"},
	{"a hidden page has a longer grace", "policy.go", "return max(p.GraceBackground, p.GraceLost)", "return p.GraceLost"},
	{"the most specific pattern decides a room's policy", "policy.go", "pattern.moreSpecific(best)", "false"},
	{"silence is beat.every times the tolerance", "policy.go", "float64(p.BeatEvery) * p.BeatTolerance", "float64(p.BeatEvery)"},
	{"an older link changes nothing", "session.go", "s.link != link.Number || s.state != Live", "s.state != Live"},
	{"after closing, the link says no more", "session.go", "s.link != link.Number || s.state != Live", "s.link != link.Number"},
	{"any frame is a sign of life", "session.go", "	s.hears(now)\n	return s, nil", "	return s, nil"},
	{"a frame of an expired token is none", "session.go", "s.expires != 0 && now.wall >= s.expires", "false"},
	{"last seen is the last evidence of life", "session.go", "cause{reason, s.heardWall, s.id}", "cause{reason, now.wall, s.id}"},
	{"only the right key resumes", "hello.go", "s.person.id != in.User || !s.key.is(in.Key)", "s.person.id != in.User"},
	{"only the same person resumes", "hello.go", "s == nil || s.person.id != in.User || !s.key.is(in.Key)", "s == nil || !s.key.is(in.Key)"},
	{"another page does not take a live link without a probe", "hello.go", "s.state == Live && (in.Nonce", "false && (in.Nonce"},
	{"an answered probe gives a session of its own", "hello.go", "!same && (i > 0 || !takeOver)", "!same && i > 0"},
	{"tokens issued before a removal are refused", "hello.go", "in.Issued <= p.removed.altogether", "in.Issued < 0"},
	{"a hello is in exactly the rooms it wants", "hello.go", "if !slices.Contains(in.Rooms, e.room().name) {", "if false {"},
	{"resuming is no activity", "hello.go", "	case !resumed:\n", "	default:\n"},
	{"a person may have a limited number of sessions", "hello.go", "p.sessions.count() >= c.policy.SessionsPerPerson", "false"},
	{"a room may be full", "room.go", "r.policy.Capacity == 0 || r.counts[Open].People < r.policy.Capacity", "true"},
	{"who hides takes no place", "room.go", "r.counts[Open].People < r.policy.Capacity", "r.counts[Full].People < r.policy.Capacity"},
	{"a removal from a room refuses older tokens there", "room.go", "issued <= p.removed.rooms[name]", "false"},
	{"since is the person's", "room.go", "	m := s.person.member(r)\n	if m == nil {", "	m := s.person.member(r)\n	if m != nil {\n		m.since = [viewCount]int64{now.wall, now.wall}\n	}\n	if m == nil {"},
	{"a declared room exists while nobody is in it", "room.go", "len(r.members) == 0 && !r.declared", "len(r.members) == 0"},
	{"who had a link at a crash was heard up to the last mark", "save.go", "if was.Live {", "if false {"},
	{"who was awake at a crash stays so for their grace", "save.go", "!s.idle && s.active+c.policy.IdleAfter < s.deadline", "false"},
	{"a page that is hidden is saved so", "idle.go", "		out.touch(s.person)\n", ""},
	{"a link that is lost is saved so", "grace.go", "	out.touch(s.person)\n", ""},
	{"a session in grace is counted as such", "session.go", "	if lost {\n		c.inGrace--", "	if false {\n		c.inGrace--"},
	{"a lease is counted as such", "session.go", "	} else if s.leased {\n		c.leases--", "	} else if false {\n		c.leases--"},
	{"a set status goes before the sessions'", "person.go", "case p.set != nil && p.set.Status != \"\":", "case p.set != nil && p.awake == 0:"},
	{"a set status ends at its time", "person.go", "		s.person.set = nil\n", "		_ = s\n"},
	{"somebody awake at any session is online", "person.go", "case p.awake > 0:", "case int(p.awake) == p.sessions.count():"},
	{"who hides is offline in the open view", "person.go", "case view == Open && p.hidden:", "case false:"},
	{"the return from hiding has a since of its own", "person.go", "m.since[Open] = now.wall", "_ = m"},
	{"who hides is not in the open view", "view.go", "if view == Open && p.hidden {", "if false {"},
	{"sessions are counted, not only people", "view.go", "c.Sessions += sign * m.Sessions", "c.Sessions += sign"},
	{"counts follow the status", "view.go", "	case Away:\n		part = &c.Away", "	case Away:\n		part = &c.Online"},
	{"nothing is told that nobody can see", "view.go", "return was != is && (was.Sessions", "return (was.Sessions"},
	{"an older typing report changes nothing", "typing.go", "if in.Number != 0 && in.Number <= t.report {", "if false {"},
	{"typing is renewed", "typing.go", "	t.until = now.awake +", "	t.until = t.until*0 + t.until + now.awake*0 +"},
	{"activity ends idleness at once", "idle.go", "c.setIdle(now, s, false, before, out)", "_ = before"},
	{"a device is awake while it is alive", "deadline.go", "if !s.idle && !s.noInput {", "if !s.idle {"},
	{"a link is asked only when nothing came", "deadline.go", "max(s.heard, s.asked) + p.BeatEvery", "s.asked + p.BeatEvery"},
	{"a lease ends the session", "deadline.go", "each(deadline{s.heard + p.Lease, EndLease, nil})", "each(deadline{s.heard + 1000*p.Lease, EndLease, nil})"},
	{"an expired token cuts the link", "deadline.go", "each(deadline{now.until(s.expires), ExpireToken, nil})", "_ = 0"},
	{"a warning comes before the expiry", "deadline.go", "!s.warned {", "s.warned {"},
	{"each room is left after its own grace", "deadline.go", "each(deadline{e.deadline, LeaveRoom, e})", "_ = e"},
	{"a paused machine blames nobody", "core.go", "c.paused = at.Mono - c.awake", "_ = at"},
	{"a restart keeps since", "save.go", "m.since = [viewCount]int64{was.Since, was.OpenSince}", "_ = was"},
	{"a closing page gives way to the one that waits for the probe", "grace.go", "s, err := c.heard(now, link, out)", "s, err := c.speaks(now, link, out)"},
	{"a withdrawn hello does nothing", "hello.go", "s.contest().hellos = slices.DeleteFunc(s.contest().hellos, func(h Hello) bool { return h.Attempt == in.Attempt })", "_ = in"},
	{"of several hellos of one page the newest counts", "hello.go", "if in.Nonce != \"\" && other.Nonce == in.Nonce {", "if false {"},
	{"a lease's report is applied whole or not at all", "hello.go", "		if !slices.Contains(rooms, room) {\n			return notInRoom(\"typing\", room)", "		if _ = room; false {\n			return nil"},
	{"a lease that brings nothing new saves nothing", "hello.go", "if before != state() || !slices.Equal(rooms, s.rooms()) {", "if rooms = s.rooms(); rooms != nil {"},
	{"a lease that brings something new is saved", "hello.go", "if before != state() || !slices.Equal(rooms, s.rooms()) {", "if rooms = nil; rooms != nil {"},
	{"typing reports are numbered anew on each link", "hello.go", "e.typed.report = 0", "_ = e"},
	{"a typing report that came too late is told as such", "typing.go", "return Reply{Stale: true}, nil", "return Reply{}, nil"},
	{"a removal is told to the links that were there", "removal.go", "out.add(TakenOut{", "_ = (TakenOut{"},
	{"a token that grants less takes out of rooms", "removal.go", "			c.takeOut(now, e, ReasonLeave, out)", "			_ = e"},
	{"rooms that are wanted one by one are refused one by one", "hello.go", "refused = append(refused, RefusedRoom{room, err.(*Refusal)})", "_ = err"},
	{"the longest ghost may have a hidden page", "policy.go", "max(p.GhostIn(r, false), p.GhostIn(r, true))", "p.GhostIn(r, false)"},
	{"a removal ends what a link follows as a member", "internal/realm/conversation.go", "	t.receiver.Unfollow(delivery.Joined, presence.Pattern(room))\n	return drop(", "	return drop("},
	{"a removal ends what a link watches", "internal/gateway/gateway.go", "	g.orderIf(theirs, (*link).narrow)\n", "	_ = theirs\n"},
	{"no key makes one that may do more", "internal/access/grants.go", "return o.Rooms == nil || rooms != nil &&", "return true || rooms != nil &&"},
	{"no key makes one that outlives it", "internal/access/keyring.go", "kept.Expires.After(by.Expires)", "false"},
	{"a key about some rooms reaches nothing of the realm", "internal/realm/desk.go", "	if d.by.Rooms != nil {", "	if false {"},
	{"somebody who comes gets a state that is sealed", "internal/engine/ask.go", "return f != nil && f.waiting\n", "return f == nil && topic.Room == \"\"\n"},
	{"a note goes with any status", "person.go", "noted := Appearance{Status: status, Note: p.set.Note, Until: p.set.Until}", "noted := Appearance{Status: status}"},
	{"a note alone sets no status", "person.go", "case p.set != nil && p.set.Status != \"\":", "case p.set != nil && (p.set.Status != \"\" || p.set.Note != \"\"):"},
	{"a question does not wait for the sink", "internal/engine/engine.go", "	e.mu.Unlock()\n	if told {\n", "	defer e.mu.Unlock()\n	if told {\n"},
	{"what concerns a link during its hello waits for it", "internal/gateway/registry.go", "hailing.hello.orders = append(hailing.hello.orders, order{id, do})", "_, _ = hailing, order{id, do}"},
	{"what concerns a person during their hello waits for it", "internal/gateway/registry.go", "l.hello.orders = append(l.hello.orders, order{do: do})", "_ = order{do: do}"},
	{"a setting that needs a restart is not taken by a reload", "internal/config/keys.go", "if !k.Reload && ", "if false && "},
	{"who comes again in another block is one visitor", "internal/records/rollup.go", "_, before := seen[v]; before {", "_, before := seen[v]; before && false {"},
	{"who goes and comes again is no new visitor", "internal/records/rollup.go", " AS arrived, min(id) FROM", " AS arrived, max(id) FROM"},
	{"who else follows does not decide when a count is told", "internal/delivery/topic.go", "if !t.due.IsZero() && !t.waiting && !t.due.After(now) {", "if false {"},
	{"a busy room seals together what comes together", "internal/engine/batch.go", "if now.Mono >= f.calmAt {", "if f.calmAt >= 0 {"},
	{"those who hide leave no rhythm among people", "internal/engine/people.go", "e.people[view].note(now.Mono+e.window,", "e.people[0].note(now.Mono+e.window,"},
	{"a watched person is told as of the last seal", "internal/engine/people.go", "if i, unsealed := p.index[subject.User]; unsealed {", "if i, unsealed := p.index[subject.User]; unsealed && false {"},
	{"what can be resumed is a matter of time alone", "internal/delivery/topic.go", "return ok && (i == len(t.ring) || time.Since(t.ring[i].came) <= forgetAfter)", "return ok && i >= 0"},
	{"what has to be understood is refused", "internal/access/token.go", "if object.Get(\"crit\") != nil {", "if false {"},
	{"claims count as they are spelt", "internal/strictjson/strictjson.go", "index, defined := fields[m.Name]", "index, defined := fields[strings.ToLower(m.Name)]"},
	{"names within claims count as they are spelt", "internal/strictjson/strictjson.go", "jsonv2.Unmarshal(m.Value, field.Addr().Interface())", "jsonv2.Unmarshal(m.Value, field.Addr().Interface(), jsonv2.MatchCaseInsensitiveNames(true))"},
	{"a time that is none is refused", "internal/access/token.go", "(*at < 0 || *at > maxTime)", "false"},
	{"posts need the key of their stream", "internal/gateway/eventstream.go", "r.Key == \"\" || subtle.ConstantTimeCompare([]byte(r.Key), []byte(s.key)) != 1", "false"},
	{"a stream is published with its key", "internal/gateway/eventstream.go", "	s.key = reply.Key\n", ""},
	{"a hello that waited is answered after the cut that it caused", "internal/engine/engine.go", "e.news = append(e.news, answer{waiting, effect})", "waiting <- effect"},
	{"reading TLS keeps no worker", "internal/transport/tls.go", "mayWait() bool { return true }", "mayWait() bool { return false }"},
	{"giving a link up waits for nobody", "internal/transport/conn.go", "_ = over.NetConn().Close()", "_ = over.Close()"},
	{"a stream has its place before another worker can end it", "internal/transport/stream.go", "	if first {\n		s.pool.watcher.put(s) // from here on another worker may end the stream, and must find the mark\n	}\n	s.waits.Store(true)\n", "	s.waits.Store(true)\n	_ = s.conn.raw()\n	if first {\n		s.pool.watcher.put(s)\n	}\n"},
	{"another worker may be the first to watch a stream", "internal/transport/watcher_linux.go", "case syscall.ENOENT:", "case syscall.EPERM:"},
	{"a limit that passes while a link is busy counts", "internal/transport/stream.go", "	if s.isOvertime() {\n		s.ready(os.ErrDeadlineExceeded)\n	}", ""},
	{"what is reported late about a link is not taken for another", "internal/transport/marks.go", "s != nil && s.mark == k", "s != nil"},
	{"an entry is as wide as its fields ask for", "internal/records/rows.go", "e.Was != \"\" || e.Unheard != 0", "e.Was != \"\""},
	{"a statement is as wide as its widest entry", "internal/records/rows.go", "			is = max(is, next)\n", ""},
	{"somebody is first seen when they first came", "internal/records/person.go", "cmp.Or(old.FirstSeen, p.FirstSeen)", "cmp.Or(p.FirstSeen, old.FirstSeen)"},
	{"a person who was not on record is added before they leave", "internal/records/together.go", ", !next.adds() && p.adds() && p.FirstSeen == 0:", ":"},
	{"who was last seen without a row is not", "internal/records/together.go", "case next.adds() && !p.adds(), ", "case "},
	{"what follows a change is put after it", "internal/records/together.go", "len(r.Changes)+len(r.Tried) > 0", "len(r.Tried) > 0"},
	{"a number with a fraction is not read as a whole one", "internal/strictjson/strictjson.go", "digit > '9' || ", ""},
	{"a node that begins to own a realm has put all rows before", "internal/cluster/log.go", "	return true\n}\n\n// Applied handles", "	return false\n}\n\n// Applied handles"},
	{"a command is answered once its rows are put", "internal/cluster/log.go", "appending.ID == r.ID && len(is.owner.settling) > 0", "appending.ID == r.ID && len(is.owner.settling) > 1"},
	{"rows that nobody awaits are put soon", "internal/cluster/broker/reader.go", "due = time.After(time.Until(r.putBy))", "due = nil"},
	{"rows that are waiting are put at the end", "internal/cluster/broker/reader.go", "case len(batch) == 0:\n			return r.putWaiting()", "case len(batch) == 0:\n			return nil"},
	{"the indexes of the journal go by blocks", "internal/records/journal.go", "	if q.indexed() {\n		db = db.Where(block", "	if false {\n		db = db.Where(block"},
	{"a query goes to the last block", "internal/records/journal.go", "WHERE n < @last >> @bits)", "WHERE n + 1 < @last >> @bits)"},
	{"somebody is erased from all blocks", "internal/records/change.go", "blocks(tx, wholeJournal)", "blocks(tx, idRange{1, 1 << blockBits})"},
	{"newer blocks come first when that is asked for", "internal/records/journal.go", "		slices.Reverse(ranges)\n", ""},
	{"only who agreed gets compressed frames", "internal/transport/websocket.go", "func (c *webSocket) appendFrame(to []byte, t deflate.Text) []byte {\n	if c.deflates {", "func (c *webSocket) appendFrame(to []byte, t deflate.Text) []byte {\n	if true {"},
	{"what becomes too large is not decompressed", "internal/deflate/deflate.go", "case len(text) > limit:", "case len(text) > 100*limit:"},
	{"a text that does not become shorter goes as it is", "internal/deflate/deflate.go", " || to.Len() >= len(text) {", " {"},
	{"an offer that cannot be met is declined", "internal/deflate/deflate.go", "err == nil && option.Size() > 0", "err == nil"},
	{"a message is decompressed once it is whole", "internal/transport/websocket.go", "	if c.packed.IsCompressed() {", "	if c.packed.IsCompressed() && !c.fragmented && c.message != nil {"},
	{"a namesake that is not heard for a while may live", "internal/server/namesake.go", "s.heard.IsZero() && !said.silent", "!said.silent"},
	{"a node that does not answer may hear a namesake", "internal/server/namesake.go", "s.heard.IsZero() && !said.silent", "s.heard.IsZero()"},
	{"a namesake lives that is said late to have been heard", "internal/server/namesake.go", "case s.heard.Sub(s.began) > namesakeDies:", "case s.heard.Sub(s.began) > namesakeDies && at.Sub(s.heard) < 2*time.Second:"},
	{"a node waits longer for its first answer", "internal/server/namesake.go", "if !s.answered {", "if false {"},
	{"links come back at the rate at which they are let in", "internal/gateway/returning.go", "r.each = passed / time.Duration(r.count)", "r.each = 0"},
	{"a calm second says nothing about the rate", "internal/gateway/returning.go", "case !r.wanted || passed >= 2*time.Second:", "case passed >= 2*time.Second:"},
	{"a flood sends nobody away for long", "internal/gateway/returning.go", "r.next.Sub(now) > longestReturn {", "false {"},
	{"a link without a place is told when to come back", "internal/gateway/gateway.go", "	case wire.CodeBusy:\n		f.Frames", "	case \"\":\n		f.Frames"},
	{"a stream needs no place among links without a hello", "internal/gateway/registry.go", "	return s.hasPlace(address, false)", "	return s.hasPlace(address, true)"},
	{"a room that may not be watched is not", "internal/realm/guest.go", "return g.realm.admission.AdmitWatch(ctx, g.realm.name, g.person, pattern)", "return nil"},
	{"a hello is withdrawn when its connection ends", "internal/gateway/link.go", "	if l.pending != nil {\n		l.pending.end()\n	}", ""},
	{"a hello over HTTP is withdrawn when its connection ends", "internal/transport/whileopen.go", "		if closed {", "		if false && closed {"},
	{"a paused machine blames no link without a session", "internal/gateway/gateway.go", "			l.heard += int64(pause)", "			_ = pause"},
	{"an answer that is known is not sent again", "internal/httpapi/edge.go", "tag == \"*\" || strings.TrimPrefix", "tag == \"*\" && strings.TrimPrefix"},
	{"a request of a wrong kind is answered by its id", "internal/gateway/frame.go", "	f.id = repeatable(f.object)\n", "	f.id = wire.ID(nil)\n"},
	{"only public addresses are told", "internal/hooks/dial.go", "a.Zone() == \"\" && public.SafeAddr(a) == nil", "a.Zone() == \"\""},
	{"only a page of the console shows its cookie", "internal/httpapi/operator.go", "site == \"same-origin\" || site == \"none\"", "site != \"cross-site\""},
	{"a restart keeps who hides", "save.go", "p.profile, p.hidden = saved.Profile, saved.Hidden", "p.profile = saved.Profile"},
	{"of several doings the newest counts", "doing.go", "e.doing.object != \"\" && e.doing.order > order", "e.doing.object != \"\" && (order == 0 || e.doing.order < order)"},
	{"others see one change of doing per interval", "doing.go", "newest != d.shown && now.awake >= d.changed+d.member.room.policy.DoingEvery", "newest != d.shown"},
	{"the last change of doing is seen", "doing.go", "	if d.member.newest() != d.shown {\n", "	if false {\n"},
	{"doing is saved every five seconds at most", "doing.go", "d.unsaved && now.awake >= d.saved+saveDoingEvery", "d.unsaved"},
	{"an old report of doing changes nothing", "doing.go", "in.Number != 0 && in.Number <= e.doing.number", "false"},
	{"doing is bounded", "doing.go", "len(object) > most", "len(object) > most+1000"},
	{"a room that asks asks", "ask.go", "if c.policyOf(name).Entry != EntryAsk || matches(admits, name) {", "if true {"},
	{"people who may admit need not ask", "ask.go", "if c.policyOf(name).Entry != EntryAsk || matches(admits, name) {", "if c.policyOf(name).Entry != EntryAsk {"},
	{"a pass lasts as long as the policy says", "ask.go", "standing{pass: now.wall + policy.AskPass.Milliseconds()}", "standing{pass: now.wall + 2*policy.AskPass.Milliseconds()}"},
	{"hidden people do not ask", "ask.go", "	case p != nil && p.hidden:\n		return false, hiding(\"join\")\n", ""},
	{"after a refusal one waits", "ask.go", "case is.again > now.wall:", "case false:"},
	{"only a member answers an ask", "ask.go", "matches(s.admits(), name) && s.entry(name) != nil", "matches(s.admits(), name)"},
	{"only who may admit answers an ask", "ask.go", "matches(s.admits(), name) && s.entry(name) != nil", "s.entry(name) != nil"},
	{"hidden people answer no ask", "ask.go", "	if s.person.hidden {\n		return hiding(\"admit\")\n	}\n", ""},
	{"capacity is checked when somebody is admitted", "ask.go", "	if err := c.hasRoomFor(a.person, a.room); err != nil {\n		return err\n	}\n", ""},
	{"an ask ends with its last session", "session.go", "	c.withdrawAsks(now, s, Gone, out, func(RoomName) bool { return true })\n", ""},
	{"a removal revokes passes", "removal.go", "		c.setStanding(now, p, in.Room, standing{})\n", ""},
	{"an invitation ends with the session that it came from", "session.go", "return i.session == s })", "return false })"},
	{"whom one may not see is offline", "invitation.go", "!in.Anywhere && !c.Near(in.To, p.id, Open)", "false"},
	{"an engaged person is not invited", "invitation.go", "case to.engaged > 0:", "case false:"},
	{"busy people are not invited", "invitation.go", "to.set != nil && to.set.Status == Busy && c.policy.InvitationBusy != AllowBusy", "false"},
	{"an invitation is answered by the invited", "invitation.go", "	if whose != p {\n", "	if whose == nil {\n"},
	{"hidden people accept nothing", "invitation.go", "		return Reply{}, hiding(\"accept\")\n", ""},
	{"hiding withdraws invitations", "person.go", "c.closeInvitations(now, p.inviting, Withdrawn, out, func(*invitation) bool { return true })", ""},
	{"engagement ends with the membership", "room.go", "	m.engage(-1)\n	r := m.room\n", "	r := m.room\n"},
	{"nobody is engaged twice", "engaged.go", "	if p == nil || !policy.Engages {\n", "	if true {\n"},
	{"a note goes with being engaged", "person.go", "	case p.engaged > 0:\n", "	case p.engaged > 0 && p.set == nil:\n"},
	{"a status that is bound ends with its session", "session.go", "p.set != nil && p.set.session == s.id", "false"},
	{"a restart keeps asks", "save.go", "			c.holdAsk(a)\n", ""},
	{"asks are told to those who may admit", "internal/delivery/sub.go", "s.admits && s.asked != t.asking.version", "s.asked != t.asking.version"},
	{"who does not follow doing gets none", "internal/delivery/topic.go", "	case sparse && !b.same:\n", "	case false:\n"},
	{"a wildcard leaves out rooms that ask", "internal/delivery/receiver.go", "f.cause == Watched && f.Detail > most.Detail && !r.lets(room, f.Detail)", "false"},
	{"a loss and its return are one line", "internal/journal/lines.go", "case SessionResumed, SessionEnded:\n\t\tif lost != nil {", "case SessionResumed, SessionEnded:\n\t\tif false {"},
	{"a run of status changes is one line", "internal/journal/lines.go", "case isRun(last) && isOfRun(r):", "case false:"},
	{"only a session of the same person is named as wanted", "internal/journal/ended.go", "string(user), string(session)", "string(session)"},
	{"an ended session is forgotten", "internal/journal/ended.go", "at-e.since >= endedFor || ", ""},
	{"of too many ended sessions the older ones are forgotten", "internal/journal/ended.go", " || len(e.newer) >= mostEnded", ""},
	{"an entry says which session came or went", "view.go", "Session: why.session}", "Session: \"\"}"},
	{"an entry says that the page was in the background", "grace.go", "PageHidden: s.pageHidden,", "PageHidden: false,"},
	{"a replay moves idleness by the difference of the policies", "internal/timing/replay.go", "at = max(e.At+min(r.shifts.idle, 0), e.At-e.Length+r.quiet+r.shifts.idle)", "at = e.At"},
	{"a replay stands still with the machine", "internal/timing/replay.go", "r.still = still", "_ = still"},
	{"a replay stops and starts with the service", "internal/timing/replay.go", "r.saved, r.down = r.core.Save(r.instant()), true", "r.saved = r.core.Save(r.instant())"},
	{"the advice allows one flicker in a thousand", "internal/timing/advice.go", "if within-before <= allowed {", "if within-before <= 5*allowed {"},
	{"an erasure deletes what others did with the person", "internal/records/change.go", "About: p.User}", "Users: []presence.UserID{p.User}}"},
	{"a realm takes from the service what its policy leaves out", "internal/config/policy.go", "overlay(reflect.ValueOf(&f).Elem(), reflect.ValueOf(own).Elem())", "f = *own"},
	// Several nodes.
	{"link numbers are minted by (epoch, count)", "takeover.go", "LinkNumber(epoch)<<32", "1"},
	{"the next core goes on with the time of the last", "takeover.go", "c.awake, c.standing = from.Time, true", "c.awake, c.standing = at.Mono, true"},
	{"a grace that may lack a return is long enough for one", "takeover.go", "!from.Whole && ends < least", "false"},
	{"a bucket that is split keeps what belongs to it", "index.go", "if x.bucket(c.hash) != to {", "if false {"},
	{"an index that shrinks loses nothing", "index.go", "	*into = moved\n", "	_ = moved\n"},
	{"a quota is told before it bites", "quota.go", "use.Near() && c.quotas.told[name] == toldNothing", "false"},
	{"a quota is told once", "quota.go", "if c.quotas.told[name] < toldReached {", "if true {"},
	{"what was told of a quota is about its limit", "policy.go", "c.quotas.told = nil", "_ = c"},
	{"a quota of people does not keep out who is in", "quota.go", "if p != nil && p.sessions.count() > 0 {", "if false {"},
	{"a session in the place of another needs no quota", "quota.go", "if c.policy.SecondSession != AllowSecond {", "if false {"},
	{"cues are counted by the minute", "quota.go", "c.quotas.minute, c.quotas.cues = minute, 0", "c.quotas.minute = minute"},
	{"a restart brings back sessions, which are counted", "internal/headcount/counter.go", "c.change(at, c.head(\"\"), restored, \"\", 0, 1)\n		c.linked(1-is(e.Lost), restored)", "c.linked(0, restored)"},
	{"a second sign of loss is no second loss", "internal/headcount/counter.go", "c.linked(is(e.Again)-1, restored)", "c.linked(-1, restored)"},
	{"a grace keeps its reason over a takeover", "takeover.go", "e.reason, e.deadline = was.Reason,", "e.reason, e.deadline = ReasonLost,"},
	{"of two links the higher lives", "reseat.go", "f.Session.Link < s.link", "f.Session.Link == 0"},
	{"a confirmed session that is unknown has ended", "reseat.go", "f.Confirmed || c.gave(f.Session.Link)", "c.gave(f.Session.Link)"},
	{"a removal beats what a carrier reports", "reseat.go", "f.Session.Issued <= p.removed.altogether", "false"},
	{"a removal from a room beats what a carrier reports", "reseat.go", "c.notRemoved(s.person, s.issued, is.Room) != nil", "false"},
	{"a page that said it is closing is not revived", "reseat.go", "!s.restored || s.reason == ReasonClosing || s.leased", "!s.restored || s.leased"},
	{"of second sessions the later opened stays", "reseat.go", "return s.opened > opened", "return s.opened < opened"},
	{"unanswered requests go on counting", "reseat.go", "if f.Unanswered >= 0 && s.unheard == 0 {", "if false {"},
	{"a link whose carrier is not heard is silent", "reseat.go", "s.unheard = max(s.heard+c.policy.BeatEvery, now.awake-c.policy.Silence())", ""},
	{"a silence goes on over a takeover", "takeover.go", "s.unheard = min(s.unheard, saved.Silent)", ""},
	{"only what comes after a probe answers it", "session.go", "s.contest() != nil && s.contest().asked", "s.contest() != nil"},
	{"a hello that comes again has its session", "hello.go", "if s := c.opened(in); s != nil {", "if s := c.opened(in); s != nil && false {"},
	{"open asks stay in their order", "save.go", "cmp.Compare(a.opened, b.opened)", "cmp.Compare(0, 0)"},
	{"an owner that no majority answers says nothing", "internal/cluster/doubt.go", "	if !answered {\n		n.suspect(o, false)", "	if !answered && false {\n		n.suspect(o, false)"},
	{"nobody is answered before the barrier", "internal/cluster/owner.go", "	n.learn(o.realm, Known{o.epoch, n.Name})\n", "	n.learn(o.realm, Known{o.epoch, n.Name})\n	n.activate(o)\n"},
	{"links given after the report are not judged by it", "internal/cluster/reseat.go", "&& by.sent <= report.Read", ""},
	{"a new incarnation does not judge what the old one carried", "internal/cluster/reseat.go", "maps.DeleteFunc(o.links, func(_ presence.LinkID, by carriedBy) bool { return by.carrier == name })", "maps.DeleteFunc(o.links, func(presence.LinkID, carriedBy) bool { return false })"},
	{"a carrier reports links that have ended", "internal/cluster/report.go", "{r.carrier.gone, r.carrier.links}", "{r.carrier.links}"},
	{"a judge that heard no majority waits", "internal/cluster/judge.go", "n.swapping || n.mono()-n.alone < n.Timings.Dead", "n.swapping"},
	{"requests that wait are repeated after a report", "internal/cluster/report.go", "n.toOwner(r, r.carrier.requests[attempt].request)", "_ = attempt"},
	{"a node that leaves waits until its report is there", "internal/cluster/node.go", "r.handed > 0 && !n.hasReported(r)", "false"},
	{"an owner hands over once the next has read ahead", "internal/cluster/owner.go", "o.prepared = up.Epoch\n\t\tn.yieldIfReady(o)", "o.prepared = up.Epoch"},
	{"an owner gives the next time to read ahead", "internal/cluster/handover.go", "o.yields, o.yieldAt = to, n.mono()+n.Timings.Prepare", "o.yields, o.yieldAt = to, n.mono()"},
	{"an owner does not wait for ever until the next has read ahead", "internal/cluster/handover.go", "o.prepared == o.yields || n.mono() >= o.yieldAt", "o.prepared == o.yields"},
	{"an owner answers while a record is on its way", "internal/cluster/handover.go", "ready && o.appending == nil", "ready"},
	{"an owner hands over as soon as its last record is there", "internal/cluster/owner.go", "n.answerRecorded(o)\n\t\tn.yieldIfReady(o)", "n.answerRecorded(o)"},
	{"who has changed since the records were read ahead is read again", "internal/records/ahead.go", "			is.changed[user] = true\n", ""},
	{"reports that come before the core is restored count", "internal/cluster/owner.go", "o.early = append(o.early, queued{from, report})", "_ = report"},
	{"early reports of a former incarnation do not count", "internal/cluster/reseat.go", "return q.from == name })", "return false })"},
	{"a list is current once it was told", "internal/cluster/core.go", "return known && revision == c.told[topic]", "return known || revision == c.told[topic]"},
	{"whoever asks while a list is told is told again", "internal/cluster/core.go", "		c.asked[topic] = true\n", ""},
	{"a room is not known before its state", "internal/cluster/lists.go", " && !l.awaits[topic]", ""},
	{"whoever was told that there is no room gets it whole", "internal/cluster/lists.go", "if before != (engine.Revision{}) {", "if true {"},
	{"heartbeats wait for no receiver here", "internal/cluster/runner.go", "case outward(act):", "case false:"},
	{"a process that is older than another of its name halts", "internal/cluster/peer.go", "if e.To > n.Incarnation {", "if false {"},
	{"an external broker must take marks", "internal/cluster/log.go", "broker.incarnation, broker.heard, broker.echoed = 1, n.mono(), n.markSent", "broker.incarnation, broker.heard, broker.echoed = 1, never, never"},
	{"a mark counts from when it was sent", "internal/cluster/log.go", "broker.echoed = 1, n.mono(), n.markSent", "broker.echoed = 1, n.mono(), n.mono()+n.Timings.Away"},
	{"what is there at a time limit came in time", "internal/transport/stream.go", "case IsTimeout(err) && s.watched:", "case false:"},
	{"a client that goes on sending postpones no limit", "internal/transport/stream.go", "for range lastReads {", "for {"},
	{"more to read over TLS postpones no limit", "internal/transport/stream.go", "	if s.isOvertime() {\n		s.ready(os.ErrDeadlineExceeded)\n		return\n	}", ""},
	{"a limit that was lifted is over", "internal/transport/stream.go", "if err == nil && s.isOvertime() {", "if err == nil {"},
	{"the end of one request leaves the others of its link", "internal/gateway/link.go", "if is.requests--; is.requests == 0 {", "if is.requests--; true {"},
	{"an empty copy of the log is not complete", "internal/cluster/broker/broker.go", " && (has > 0 || last == 0)", ""},
	{"an owner in doubt does not give up its realm", "internal/cluster/handover.go", "case o.phase == begins:", "case !o.speaks():"},
	{"heartbeats say that the broker is not heard", "internal/cluster/peer.go", "heard = append(heard, External)", "_ = External"},
	{"a gap is repaired", "internal/cluster/peer.go", "before != p.got {", "before != p.got && false {"},
	{"a loss shows in the next heartbeat", "internal/cluster/peer.go", "if e.Last > p.got {", "if false {"},
	{"an answer whose client has gone is a lost link", "internal/cluster/request.go", "if a.Err == nil && link.Session != \"\" && r.carrier.links[link] == nil {", "if false {"},
	{"what comes to an owner that is silent waits", "internal/cluster/owner.go", "		o.wait(queued{from, what})\n", ""},
	{"the links of a carrier that is not heard are silent", "internal/cluster/doubt.go", "n.unseat(other, name)", "_ = other"},
	{"the links of a former incarnation are silent", "internal/cluster/peer.go", "			n.unseat(o, name)\n", ""},
	{"pages leave a carrier that does not reach their owner", "internal/cluster/carrier.go", "if away && !r.carrier.refusing {", "if false {"},
	{"a list that is compared lacks nothing", "internal/cluster/owner.go", "	o.engine.SealAll()\n", ""},
	{"a command is answered when it is on record", "internal/cluster/owner.go", "(request.Change != nil || lasts(request.Input))", "request.Change != nil"},
	{"the table is read with each heartbeat unless all is well", "internal/cluster/peer.go", "if n.beats++; n.beats%calmReads == 0 || !n.calm() {", "if n.beats++; n.beats%calmReads == 0 {"},
	{"what a request brings about is told before its answer", "internal/cluster/request.go", "	n.readOwn() // what the input has brought about is told before its answer\n", ""},
	{"a hello may wait at the owner's node", "internal/cluster/request.go", "case nil, presence.Hello, presence.Erase:", "case nil, presence.Erase:"},
	{"a list that was left out is sent whole", "internal/cluster/stream.go", "			n.state(o, to, what.topic)", "			_ = what"},
	{"a list has the difference from another owner's", "internal/cluster/lists.go", "b.Left = append(b.Left, l.departure(s.Topic, user))", "_ = user"},
	{"rooms that have ended end", "internal/cluster/lists.go", "show = append(show, l.differs(engine.Snapshot{Topic: topic}, at)...)", "_ = topic"},
	{"an owner that is cut off is replaced", "internal/cluster/judge.go", "|| n.cutOff(name) ||", "||"},
	{"a node that others hear is not dead", "internal/cluster/judge.go", "if other != name && n.hears(other) && !slices.Contains(n.peers[other].unheard, name) {", "if other == name && n.hears(other) {"},
	{"a link is reported as lost when its connection ends", "internal/cluster/carrier.go", "n.toOwner(r, Say{presence.LinkLost{Link: c.link}})", "_ = c"},
	{"an admitted session is in the room of its link", "internal/cluster/order.go", "			if e.Outcome == presence.Admitted {", "			if false {"},
	{"an accepted invitation is in the room of its link", "internal/cluster/request.go", "c.enter(a.Reply.Rooms...)\n		}\n	case presence.Leave", "}\n	case presence.Leave"},
	{"hellos are dropped by whoever stood still", "internal/cluster/node.go", "		n.dropWaiting(r)\n", ""},
	{"the log refuses an owner that was replaced", "internal/cluster/owner.go", "n.do(Append{Record: r, After: o.realm.log.Last})", "n.do(Append{Record: r, After: Unfenced})"},
	{"a record whose outcome is unknown is appended again", "internal/cluster/owner.go", "		o.retry, o.appendAt = true, n.mono()\n	}", "		o.appendAt = n.mono()\n	}"},
	{"an owner writes everything before it hands over", "internal/cluster/handover.go", "func (n *Node) end(o *owner) {\n	n.write(o)", "func (n *Node) end(o *owner) {\n"},
	{"the next owner continues at the time of the last mark", "internal/cluster/fold.go", "to.Marks, to.Time, to.Wall = is.Epoch, is.Time, r.Wall", "to.Marks, to.Wall = is.Epoch, r.Wall"},
	{"the time of a silent owner stands still", "internal/cluster/doubt.go", "		o.engine.StandStill()\n	}\n}", "		_ = o\n	}\n}"},
	{"an owner that stood still says nothing before its mark", "internal/cluster/node.go", "			n.suspect(r.owner, true)", "			n.suspect(r.owner, false)"},
	{"an owner that stood still while it began proves itself", "internal/cluster/owner.go", "	o.frozen, o.frozenAt = o.unproven, n.mono()", "	o.frozenAt = n.mono()"},
	{"older owners are ignored", "internal/cluster/carrier.go", "	if m.Epoch < r.known.Epoch {\n		return\n	}", ""},
	{"an owner that hears of a newer one gives up", "internal/cluster/log.go", "	if r.owner != nil && r.owner.epoch < is.Epoch {\n		n.drop(r)\n	}", ""},
	{"a hello that comes again has the same answer", "internal/cluster/owner.go", "if was, ok := o.answered[request.Attempt]; ok {", "if was, ok := o.answered[request.Attempt]; ok && false {"},
	{"a beat request for a link that is gone says so", "internal/cluster/order.go", "			n.toOwner(r, Say{presence.LinkLost{Link: e.Link}})\n			return", "			return"},
	{"what is followed is told after a report", "internal/cluster/told.go", "	if !o.seated[from] {\n		n.down(o, from, WantReport{})\n		return\n	}", ""},
	{"a new owner waits for nodes that it has not heard yet", "internal/cluster/owner.go", "if !n.dead(name) {\n			o.missing", "if n.hears(name) {\n			o.missing"},
	{"and for nodes that others hear", "internal/cluster/owner.go", "if !n.dead(name) {\n			o.missing", "if name == n.Name || n.mono()-n.peers[name].heard < n.Timings.Dead {\n			o.missing"},
	{"a session that this owner has ended stays ended", "internal/presence/reseat.go", " || c.gave(f.Session.Link)", ""},
	{"an owner that was cut off says nothing before its mark", "internal/cluster/doubt.go", "			o.unproven, o.proof = true, \"\"\n", "			_ = o\n"},
	{"a request that was given up is not carried out", "internal/cluster/owner.go", "!ok || !withdrawn[request.Attempt]", "!ok || request.Attempt > 0"},
	{"a join that is answered too late is taken back", "internal/cluster/request.go", "			n.takeBack(r, q, a)\n", ""},
	{"the table knows a node that only others hear", "internal/cluster/judge.go", "			newest = max(newest, is.Incarnation)", "			_ = is"},
	{"a hello from before a pause is refused", "internal/cluster/carrier.go", "	if n.wokeAt > 0 && ", "	if false && n.wokeAt > 0 && "},
	{"no link outlives the node that carried it", "internal/cluster/told.go", "		o.orphans = append(o.orphans, e.Link)\n", ""},
	{"an owner that appends no mark is replaced", "internal/cluster/judge.go", "|| n.stuck(name) {", "{"},
	{"only steady nodes take realms from living owners", "internal/cluster/plan.go", "fewest(func(c Candidate) bool { return c.Steady })", "fewest(func(Candidate) bool { return true })"},
	{"epochs only grow", "internal/cluster/plan.go", "Epoch: max(now.Realms[realm].Epoch, listing.Epochs[realm]) + 1,", "Epoch: max(now.Realms[realm].Epoch, 1),"},
	{"a carrier withdraws a hello that it has given up", "internal/cluster/request.go", "	n.toOwner(r, GiveUp{q.request.Attempt, hello.Session})\n", "		_ = hello\n"},
	{"a removal ends what is followed at all nodes", "internal/cluster/log.go", "			n.do(StopFollowing{r.Realm, removed})\n", "			_ = removed\n"},
	{"a question that nobody answers is an error", "internal/cluster/core.go", "		c.unanswered.Add(1)\n", ""},
	{"a link that lives after all is on record", "reseat.go", "	out.touch(s.person)\n	c.seat(now, s, f, out)", "	c.seat(now, s, f, out)"},
	{"a report says whom to save anew", "reseat.go", "if p.profile != profile || !before.equal(s.lasting()) {", "_, _ = before, profile\n	if false {"},
	{"a report says what somebody is doing", "internal/cluster/coding/fact.go", "presence.SavedEntry{Room: e.Room, Doing: e.Doing, ", "presence.SavedEntry{Room: e.Room, "},
	{"a page is told what it has missed", "reseat.go", "			c.tellMissed(now, s, f, out.List[before:], out)\n", "			_, _ = s, before\n"},
	{"who was admitted after a takeover is in", "reseat.go", "if e.inherited && !slices", "if !slices"},
	{"a removal holds for early tokens without a session", "internal/realm/realms.go", "		who.realm.early.note(who.person.User, who.person.Issued, time.Now())\n", "		_ = time.Now\n"},
	{"a removal holds for tokens of a clock that is ahead", "removal.go", "max(now.wall, in.Issued, c.Issued(in.User))", "max(now.wall, in.Issued)"},
	{"a realm that is made again has another number", "internal/cluster/fold.go", "		f.Number++\n		f.Listed = at\n", "		f.Number = Realm(len(f.Realms) + 1)\n		f.Listed = at\n"},
	{"the names of realms differ", "internal/cluster/fold.go", "			if is.Name == r.Name {", "			if is.Name == r.Name && false {"},
	{"what an owner that was replaced still wrote applies nowhere", "internal/cluster/fold.go", "r.Epoch < to.Epoch || ", ""},
	{"a record applies once", "internal/cluster/fold.go", " || r.ID == to.ID", ""},
	{"the connections of a realm that has ended are closed", "internal/cluster/node.go", "		n.do(Close{Conn: conn, Why: CloseGone})\n	}\n	for", "		_ = conn\n	}\n	for"},
	{"the rows of a realm that has ended are gone", "internal/cluster/broker.go", " || r.Kind == KindGone }", " }"},
	{"an old listing adds and removes no realm", "internal/cluster/plan.go", "if listing.At >= now.Listed {", "if true {"},
	{"a lost table does not begin the epochs anew", "internal/cluster/plan.go", "max(now.Realms[realm].Epoch, listing.Epochs[realm]) + 1,", "now.Realms[realm].Epoch + 1,"},
	{"who does not read the log replaces nobody", "internal/cluster/judge.go", " && n.mono()-n.peers[n.Name].marked < 2*n.Timings.Mark", ""},
	{"a room whose end is not sealed is followed", "internal/engine/ask.go", "slices.ContainsFunc(f.unsealed.changes, func(c change) bool { return c.before.Sessions > 0 })", "false"},
	{"the first change of a restored room is not its beginning", "internal/cluster/lists.go", " && l.answered(b.Topic) {", " {"},
	{"an owner does not go on in a realm that has ended", "internal/cluster/doubt.go", " || n.lacksListing() {", " {"},
	{"who leaves gets no realms", "internal/cluster/plan.go", "if of(c) && !c.Leaving {", "if of(c) {"},
	{"who leaves hands over", "internal/cluster/plan.go", "{leaving, true}", "{leaving, false}"},
	{"a format is raised once all nodes know it", "internal/cluster/log.go", "		case p.knows < to:", "		case false:"},
	{"a node that cannot read a record halts", "internal/cluster/log.go", "	if verdict == Unreadable {\n		n.halt(n.tooOld(r.Format))\n	}", ""},
	{"a new owner delivers what waits", "internal/hooks/shared.go", "		d.load(h, lanes)\n", "		_ = lanes\n"},
	{"who owns a realm no longer delivers for it", "internal/hooks/shared.go", "			d.stop(h)\n", ""},
	{"a removal spares links with later tokens", "internal/gateway/gateway.go", " && who.Issued().UnixMilli() <= until.UnixMilli()", ""},
}

func main() {
	only := flag.String("only", "", "run only mutants whose rule contains this")
	from := flag.Int("from", 1, "begin with the mutant of this number")
	build := flag.Bool("build", false, "run no tests; see whether each mutant builds")
	jobs := flag.Int("jobs", 3, "how many mutants are tried at once")
	flag.Parse()
	for _, m := range mutants { // before the first of many minutes
		if _, _, err := m.source(); err != nil {
			log.Fatalf("%s: %v", m.rule, err)
		}
	}
	var mu sync.Mutex // guards run and missed, and keeps lines whole
	run, missed := 0, 0
	var trying errgroup.Group
	trying.SetLimit(*jobs)
	for i, m := range mutants {
		if i+1 < *from || !strings.Contains(m.rule, *only) {
			continue
		}
		trying.Go(func() error {
			begun := time.Now()
			by, err := m.run(*build)
			mu.Lock()
			defer mu.Unlock()
			run++
			verdict := "caught by " + by
			switch {
			case err != nil: // the others are worth their minutes
				verdict = err.Error()
				missed++
			case *build:
				return nil
			case by == "":
				verdict = "MISSED"
				missed++
			}
			fmt.Printf("%3d  %-62s %s  (%.0f s)\n", i+1, m.rule, verdict, time.Since(begun).Seconds())
			return nil
		})
	}
	_ = trying.Wait() // no try returns an error
	if missed > 0 {
		fmt.Printf("\n%d of %d mutants were missed, or do not build\n", missed, run)
		os.Exit(1)
	}
	if *build {
		fmt.Printf("all %d mutants build\n", run)
		return
	}
	fmt.Printf("\nall %d mutants were caught\n", run)
}

// source reads the file of a mutant, which must have the line once.
func (m mutant) source() (file, text string, err error) {
	file = m.file
	if !strings.Contains(file, "/") {
		file = core + "/" + file
	}
	content, err := os.ReadFile(file)
	if err != nil {
		return "", "", err
	}
	if n := strings.Count(string(content), m.old); n != 1 {
		return "", "", fmt.Errorf("%s has %q %d times, not once", m.file, m.old, n)
	}
	return file, string(content), nil
}

// run runs the tests with the broken line, and returns the first that failed. Or it only builds what they need.
func (m mutant) run(build bool) (string, error) {
	file, source, err := m.source()
	if err != nil {
		return "", err
	}
	path, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	dir, err := os.MkdirTemp("", "tovik-mutant-")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	broken, overlay := filepath.Join(dir, filepath.Base(file)), filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(broken, []byte(strings.Replace(source, m.old, m.broken, 1)), 0o600); err != nil {
		return "", err
	}
	text, err := json.Marshal(map[string]map[string]string{"Replace": {path: broken}})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(overlay, text, 0o600); err != nil {
		return "", err
	}
	var tries [][]string
	switch protector, elsewhere := protectors[m.rule]; {
	case elsewhere:
		tries = [][]string{{protector[0], "-run", protector[1]}}
	case filepath.Dir(file) == "internal/cluster":
		tries = [][]string{{"./internal/cluster"}, {"./internal/rehearsal/nodes", "-seeds=500", "-shrink=false", "-enough=1"}}
	case filepath.Dir(file) == core:
		tries = [][]string{{"./" + core, "-rapid.checks=200", "-rapid.shrinktime=100ms", "-rapid.nofailfile"}}
	default:
		tries = [][]string{{"./" + filepath.Dir(file)}}
	}
	if build {
		tries = [][]string{{"./" + filepath.Dir(file), "-run", "^$"}}
	}
	for _, args := range tries {
		by, err := caughtBy(append([]string{"test", "-vet=off", "-overlay", overlay, "-failfast", "-timeout", "4m"}, args...))
		if by != "" || err != nil {
			return by, err
		}
	}
	return "", nil
}

// caughtBy runs tests, and returns the first that failed.
func caughtBy(args []string) (string, error) {
	out, err := exec.Command("go", args...).CombinedOutput()
	if err == nil {
		return "", nil
	}
	for line := range strings.Lines(string(out)) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), "--- FAIL: "); ok {
			return strings.Fields(name)[0], nil
		}
	}
	if strings.Contains(string(out), "panic:") || strings.Contains(string(out), "fatal error:") {
		return "a panic", nil
	}
	return "", fmt.Errorf("the mutant does not build:\n%s", out)
}
