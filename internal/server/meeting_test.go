package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// How people meet, over real links: doing, asks, invitations, being engaged.

const gate, upstream = "desk.gate", "call.upstream"

// meetingPolicy lets the gate ask, and calls engage.
func meetingPolicy() *presence.Policy {
	policy := brisk()
	asks, engages := policy.RoomPolicy, policy.RoomPolicy
	asks.Entry, engages.Engages = presence.EntryAsk, true
	policy.Rooms = []presence.PatternPolicy{{Pattern: gate, RoomPolicy: asks}, {Pattern: "call.*", RoomPolicy: engages}}
	return policy
}

func mintGrants(t *testing.T, user string, grants wire.Grants) string {
	t.Helper()
	token, err := client.Token{User: user, Name: strings.ToUpper(user[:1]) + user[1:], Grants: grants}.Sign(secret)
	require.NoError(t, err)
	return token
}

// meeter is a client that keeps what it is told.
type meeter struct {
	*client.Link
	t           *testing.T
	asks        chan wire.AsksFrame
	asked       chan wire.AskFrame
	invitations chan wire.Invitations
	invited     chan wire.InvitationFrame
	events      chan client.Event
}

func meet(t *testing.T, s *server.Server, user string, grants wire.Grants, rooms ...string) *meeter {
	t.Helper()
	return meetAs(t, client.Options{Server: s.URL(), Token: mintGrants(t, user, grants), Rooms: rooms})
}

func meetAs(t *testing.T, o client.Options) *meeter {
	t.Helper()
	m := &meeter{t: t, asks: make(chan wire.AsksFrame, 100), asked: make(chan wire.AskFrame, 100), invitations: make(chan wire.Invitations, 100),
		invited: make(chan wire.InvitationFrame, 100), events: make(chan client.Event, 10000)}
	o.OnAsks = func(a wire.AsksFrame) { m.asks <- a }
	o.OnAsk = func(a wire.AskFrame) { m.asked <- a }
	o.OnInvitations = func(i wire.Invitations) { m.invitations <- i }
	o.OnInvitation = func(i wire.InvitationFrame) { m.invited <- i }
	o.OnEvent = func(e client.Event) { m.events <- e }
	m.Link = dial(t, o)
	return m
}

// next returns what comes next, or fails.
func next[T any](t *testing.T, from chan T) T {
	t.Helper()
	select {
	case got := <-from:
		return got
	case <-time.After(patience):
		require.FailNow(t, fmt.Sprintf("no %T came", *new(T)))
		panic("unreachable")
	}
}

// member waits until a room's member is as wanted.
func (m *meeter) member(room, user string, is func(wire.Member) bool) wire.Member {
	m.t.Helper()
	var came []client.Event
	for {
		select {
		case e := <-m.events:
			came = append(came, e)
			for _, member := range slices.Concat(e.Joined, e.Changed, e.Doing) {
				if e.Room == room && member.User == user && is(member) {
					return member
				}
			}
		case <-time.After(patience):
			require.FailNow(m.t, fmt.Sprintf("%s is not as wanted in %s", user, room), "the link: %v; what came: %+v", m.Err(), came)
		}
	}
}

func here(wire.Member) bool { return true }

func everywhere() []string { return []string{"**"} }

func refused(t *testing.T, err error, code string) *wire.Problem {
	t.Helper()
	problem := new(wire.Problem)
	require.ErrorAs(t, err, &problem)
	require.Equal(t, code, problem.Code)
	return problem
}

func TestAMemberLetsSomebodyIn(t *testing.T) {
	t.Parallel()
	s := start(t, meetingPolicy())
	hanne := meet(t, s, "hanne", wire.Grants{Rooms: everywhere(), Admit: []string{"desk.*"}}, gate)
	tobin := meet(t, s, "tobin", wire.Grants{Rooms: everywhere()})
	ask, err := tobin.JoinOrAsk(t.Context(), gate)
	require.NoError(t, err)
	require.Equal(t, gate, ask.Room)
	open := next(t, hanne.asks)
	for len(open.Asks) == 0 {
		open = next(t, hanne.asks)
	}
	require.Equal(t, "Tobin", open.Asks[0].Name)
	refused(t, tobin.Watch(t.Context(), gate, wire.DetailMembers), "must-ask")
	require.NoError(t, hanne.Admit(t.Context(), ask.Ask))
	require.Equal(t, wire.AskFrame{Type: "ask", Ask: ask.Ask, Room: gate, Outcome: "admitted", By: "hanne"}, next(t, tobin.asked))
	tobin.member(gate, "tobin", here) // it follows the room from now on
	hanne.member(gate, "tobin", here)
	require.Empty(t, next(t, hanne.asks).Asks, "nobody asks any more")
	require.ErrorContains(t, hanne.Admit(t.Context(), ask.Ask), "this one is over: admitted")

	// The pass outlasts a reload.
	tobin.Close()
	again := meet(t, s, "tobin", wire.Grants{Rooms: everywhere()}, gate)
	require.Equal(t, []string{gate}, again.Opened().Rooms)
}

// TestAnAskOverAnEventStreamAndOverBeats: the other doors ask, too, and learn the outcome.
func TestAnAskOverAnEventStreamAndOverBeats(t *testing.T) {
	t.Parallel()
	s := start(t, meetingPolicy())
	hanne := meet(t, s, "hanne", wire.Grants{Rooms: everywhere(), Admit: everywhere()}, gate)
	stream := follow(t, s, "/v1/feed?room="+gate, mintGrants(t, "tobin", wire.Grants{Rooms: everywhere()}), "")
	asked := stream.until("answer")["asked"].([]any)[0].(map[string]any)
	joss := "Bearer " + mintGrants(t, "joss", wire.Grants{Rooms: everywhere(), NoInput: true})
	beat := func(session string, b wire.Beating) (lease wire.Lease) {
		body, err := json.Marshal(b)
		require.NoError(t, err)
		response, text := ask(t, http.MethodPut, s.URL()+"/v1/sessions/"+session, joss, string(body))
		require.Equal(t, http.StatusOK, response.StatusCode, text)
		require.NoError(t, json.Unmarshal([]byte(text), &lease))
		return lease
	}
	gauge := wire.Beating{Rooms: []string{gate, weir}, NoInput: true, Device: "device", Doing: map[string]json.RawMessage{weir: json.RawMessage(`{ "level": 2.31 }`)}}
	lease := beat("new", gauge)
	require.Equal(t, []string{weir}, lease.Rooms)
	require.Equal(t, gate, lease.Asked[0].Room)

	admitted, not, err := hanne.AdmitAll(t.Context(), gate)
	require.NoError(t, err)
	require.Equal(t, []int{2, 0}, []int{admitted, not})
	over := stream.until("ask")
	require.Equal(t, []any{asked["ask"], "admitted"}, []any{over["ask"], over["outcome"]})
	stream.until("snapshot")
	gauge.ResumeKey = lease.ResumeKey
	lease = beat(lease.Session, gauge)
	require.ElementsMatch(t, []string{gate, weir}, lease.Rooms)
	require.Empty(t, lease.Asked)

	members, err := client.API{Server: s.URL(), Key: key}.Members(t.Context(), weir)
	require.NoError(t, err)
	require.JSONEq(t, `{"level":2.31}`, string(members.Members[0].Doing))
	require.Equal(t, []string{"device"}, members.Members[0].Devices)
}

// TestACallFromTheInvitationToTheDroppedPartner is the story of the core's test, over links.
func TestACallFromTheInvitationToTheDroppedPartner(t *testing.T) {
	t.Parallel()
	s := start(t, meetingPolicy())
	grants := wire.Grants{Rooms: everywhere(), Invite: []string{"call.*"}, People: []string{"*"}}
	ilse := meet(t, s, "ilse", grants, weir, upstream)
	network := &cable{}
	one := meetAs(t, client.Options{Server: s.URL(), Token: mintGrants(t, "tobin", grants), Rooms: []string{weir}, NetDial: network.dial})
	two := meet(t, s, "tobin", grants, weir)
	mara := meet(t, s, "mara", grants)
	ilse.member(weir, "ilse", func(m wire.Member) bool { return m.Status == "busy" && m.Engaged })

	id, err := ilse.Invite(t.Context(), "tobin", upstream)
	require.NoError(t, err)
	received := next(t, two.invitations).Received
	require.Equal(t, id, received[0].Invitation)
	require.Equal(t, wire.Party{User: "ilse", Name: "Ilse"}, received[0].From)
	room, err := one.Accept(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, upstream, room)
	for _, told := range []*meeter{ilse, two} {
		require.Equal(t, "accepted", next(t, told.invited).Outcome)
	}
	require.Empty(t, next(t, two.invitations).Received)
	mara.Close()
	mara = meet(t, s, "mara", grants)
	_, err = mara.Invite(t.Context(), "tobin", "call.downstream")
	refused(t, err, "engaged")
	ilse.member(upstream, "tobin", here)

	require.NoError(t, network.conn.Close())
	for left := false; !left; {
		e := next(t, ilse.events)
		for _, d := range e.Left {
			left = left || e.Room == upstream && d.User == "tobin" && d.Reason == "lost"
		}
	}
	require.NoError(t, ilse.Leave(t.Context(), upstream))
	statuses, err := client.API{Server: s.URL(), Key: key}.Statuses(t.Context(), "ilse", "tobin")
	require.NoError(t, err)
	for _, status := range statuses.Statuses {
		require.Equal(t, "online", status.Status, "nobody is left busy: %s", status.User)
	}
}

// TestDoingIsNumberedAndLeftOutForThoseWhoDoNotFollowIt: one follower has exactly the list with
// what members are doing, the other exactly the list without.
func TestDoingIsNumberedAndLeftOutForThoseWhoDoNotFollowIt(t *testing.T) {
	t.Parallel()
	policy := meetingPolicy()
	policy.DoingEvery = time.Millisecond
	s := start(t, policy)
	ilse := meet(t, s, "ilse", wire.Grants{Rooms: everywhere()}, weir)
	whole := meet(t, s, "hanne", wire.Grants{Rooms: everywhere()})
	sparse := meet(t, s, "mara", wire.Grants{Rooms: everywhere()})
	require.NoError(t, whole.Watch(t.Context(), weir, ""))
	require.NoError(t, sparse.WatchWith(t.Context(), wire.Watch{Room: weir, Without: []string{wire.TypeDoing}}))
	for x := range 50 {
		require.NoError(t, ilse.Doing(t.Context(), weir, map[string]int{"x": x}))
		if x%10 == 0 {
			require.NoError(t, ilse.SetStatus(t.Context(), "away", fmt.Sprint(x), time.Time{}))
		}
	}
	whole.member(weir, "ilse", func(m wire.Member) bool { return string(m.Doing) == `{"x":49}` })
	m := sparse.member(weir, "ilse", func(m wire.Member) bool { return m.Note == "40" })
	require.Nil(t, m.Doing)
	require.NoError(t, ilse.Doing(t.Context(), weir, nil))
	whole.member(weir, "ilse", func(m wire.Member) bool { return m.Doing == nil })
	require.NoError(t, ilse.SetStatus(t.Context(), "busy", "", time.Time{}))
	m = sparse.member(weir, "ilse", func(m wire.Member) bool { return m.Status == "busy" })
	require.Nil(t, m.Doing)
}

// TestALimitIsForTheFirstMembersAndTheCountOfAll: by hello, join and watch.
func TestALimitIsForTheFirstMembersAndTheCountOfAll(t *testing.T) {
	t.Parallel()
	s := start(t, meetingPolicy())
	grants := wire.Grants{Rooms: everywhere()}
	hello := meetAs(t, client.Options{Server: s.URL(), Token: mintGrants(t, "tobin", grants), Rooms: []string{weir}, Limit: 2})
	join, watch := meet(t, s, "wenna", grants), meet(t, s, "mara", grants)
	require.NoError(t, join.request(wire.Request{Type: wire.TypeJoin, Room: weir, Limit: 2}))
	require.NoError(t, watch.WatchWith(t.Context(), wire.Watch{Room: "basin.*", Limit: 2}))
	meet(t, s, "corin", grants, weir)
	meet(t, s, "hanne", grants, weir)
	for _, m := range []*meeter{hello, join, watch} {
		seen := map[string]bool{}
		for people := 0; people < 4 || !seen["corin"] || !seen["hanne"]; {
			e := next(t, m.events)
			require.True(t, e.Whole)
			for _, member := range e.Joined {
				seen[member.User] = true
			}
			for _, gone := range e.Left {
				delete(seen, gone.User)
			}
			people = e.Count.People
			require.LessOrEqual(t, len(seen), 2)
		}
	}
}

// TestARoomThatAsksIsNotSeenByWhomItWouldNotLetIn: by no door, and at count only where the policy
// opens that.
func TestARoomThatAsksIsNotSeenByWhomItWouldNotLetIn(t *testing.T) {
	t.Parallel()
	policy := meetingPolicy()
	s := start(t, policy)
	hanne := meet(t, s, "hanne", wire.Grants{Rooms: everywhere(), Admit: everywhere()}, gate)
	token := mintGrants(t, "tobin", wire.Grants{Rooms: everywhere()})
	tobin := meetAs(t, client.Options{Server: s.URL(), Token: token, Rooms: []string{weir}})
	require.NoError(t, tobin.Watch(t.Context(), "desk.*", ""))
	require.NoError(t, tobin.Watch(t.Context(), "**", wire.DetailCount))
	refused(t, tobin.Watch(t.Context(), gate, wire.DetailCount), "must-ask")
	_, err := tobin.Members(t.Context(), gate, "", "", 10)
	refused(t, err, "must-ask")
	seen := func(what string) int {
		response, _ := ask(t, http.MethodGet, s.URL()+"/v1/seen/rooms/"+gate+"/"+what, "Bearer "+token, "")
		return response.StatusCode
	}
	require.Equal(t, []int{403, 403}, []int{seen("count"), seen("members")})

	require.NoError(t, hanne.SetStatus(t.Context(), "busy", "", time.Time{}))
	require.NoError(t, tobin.Leave(t.Context(), weir))
	require.NoError(t, tobin.Join(t.Context(), weir))
	tobin.member(weir, "tobin", here)
	for len(tobin.events) > 0 {
		require.NotEqual(t, gate, next(t, tobin.events).Room)
	}

	// With a pass all of it is open; when the pass ends, all of it ends.
	api := client.API{Server: s.URL(), Key: key}
	_, err = api.GrantPass(t.Context(), gate, "tobin", wire.PassWanted{})
	require.NoError(t, err)
	require.NoError(t, tobin.Watch(t.Context(), gate, ""))
	tobin.member(gate, "hanne", here)
	require.Equal(t, []int{200, 200}, []int{seen("count"), seen("members")})
	dropped := make(chan wire.Drop, 10)
	other := meetAs(t, client.Options{Server: s.URL(), Token: token, Watch: []wire.Watch{{Room: gate}}, WatchOnly: true, OnDropped: func(d wire.Drop) { dropped <- d }})
	other.member(gate, "hanne", here)
	require.NoError(t, api.RevokePass(t.Context(), gate, "tobin"))
	refused(t, tobin.Watch(t.Context(), gate, ""), "must-ask")

	policy = meetingPolicy()
	policy.Rooms[0].WatchCount = presence.CountAnyone
	open := start(t, policy)
	meet(t, open, "hanne", wire.Grants{Rooms: everywhere(), Admit: everywhere()}, gate)
	counting := meetAs(t, client.Options{Server: open.URL(), Token: token})
	require.NoError(t, counting.Watch(t.Context(), gate, wire.DetailCount))
	refused(t, counting.Watch(t.Context(), gate, wire.DetailMembers), "must-ask")
}

// TestTheBackEndMeetsOnBehalfOfPeople: it sees and does all of it, and its journal has it.
func TestTheBackEndMeetsOnBehalfOfPeople(t *testing.T) {
	t.Parallel()
	s := start(t, meetingPolicy())
	api := client.API{Server: s.URL(), Key: key}
	grants := wire.Grants{Rooms: everywhere()}
	tobin, ilse := meet(t, s, "tobin", grants), meet(t, s, "ilse", grants, weir)
	require.NoError(t, tobin.Join(t.Context(), gate))
	asks, err := api.Asks(t.Context(), gate)
	require.NoError(t, err)
	require.Len(t, asks.Asks, 1)
	require.NoError(t, api.Refuse(t.Context(), asks.Asks[0].Ask))
	over := next(t, tobin.asked)
	require.Equal(t, "refused", over.Outcome)
	require.NotNil(t, over.Again)
	problem := refused(t, tobin.Join(t.Context(), gate), "asked-before")
	require.Contains(t, problem.Allowed, "another ask from")
	require.Error(t, api.Admit(t.Context(), asks.Asks[0].Ask))

	invitation, err := api.Invite(t.Context(), wire.NewInvitation{From: "ilse", To: "tobin", Room: upstream})
	require.NoError(t, err)
	require.Equal(t, "Tobin", invitation.To.Name)
	list, err := api.Invitations(t.Context(), "ilse")
	require.NoError(t, err)
	require.Equal(t, []wire.Invitation{invitation}, list.Invitations)
	_, err = tobin.Accept(t.Context(), invitation.Invitation)
	require.NoError(t, err)
	require.Equal(t, "accepted", next(t, ilse.invited).Outcome)
	_, err = api.Invite(t.Context(), wire.NewInvitation{From: "ilse", To: "tobin", Room: "call.other"})
	refused(t, err, "engaged")
	x, err := api.Explain(t.Context(), "tobin", upstream)
	require.NoError(t, err)
	require.Contains(t, strings.Join(x.Words, "\n"), "They are busy: engaged in call.upstream since ")
	require.Contains(t, strings.Join(x.Words, "\n"), "pass until ")

	var kinds []string
	require.Eventually(t, func() bool {
		page, err := api.Journal(context.Background(), client.JournalQuery{Limit: 100, Kinds: []string{"ask.opened", "ask.answered", "invitation.opened", "invitation.answered", "engaged.began"}})
		require.NoError(t, err)
		kinds = nil
		for _, e := range page.Entries {
			kinds = append(kinds, e.Kind+" "+e.User+" "+e.Other+" "+e.Reason)
		}
		return len(kinds) == 5
	}, patience, 10*time.Millisecond)
	require.ElementsMatch(t, []string{"ask.opened tobin  ", "ask.answered tobin  refused", "invitation.opened ilse tobin ", "invitation.answered ilse tobin accepted", "engaged.began tobin  "}, kinds)
}

// TestHostileMeetings: each attempt is refused, and changes nothing.
func TestHostileMeetings(t *testing.T) {
	t.Parallel()
	s := start(t, meetingPolicy())
	all := wire.Grants{Rooms: everywhere()}
	hanne := meet(t, s, "hanne", wire.Grants{Rooms: everywhere(), Admit: []string{gate}, Invite: everywhere(), People: []string{"*"}, Hide: true}, gate, weir)
	tobin := meet(t, s, "tobin", all, weir)
	joss := meet(t, s, "joss", wire.Grants{Rooms: everywhere(), Invite: everywhere()}, weir)
	outside := meet(t, s, "mara", wire.Grants{Rooms: everywhere(), Admit: everywhere(), Invite: []string{"call.*"}})
	basins := meet(t, s, "e-02", wire.Grants{Rooms: []string{"basin.*"}, Admit: everywhere(), Invite: everywhere()}, weir)
	ask, err := tobin.JoinOrAsk(t.Context(), gate)
	require.NoError(t, err)
	invitation, err := hanne.Invite(t.Context(), "joss", upstream)
	require.NoError(t, err)
	ctx := t.Context()
	invite := func(m *meeter, user, room string) error { _, err := m.Invite(ctx, user, room); return err }
	accept := func(m *meeter, id string) error { _, err := m.Accept(ctx, id); return err }
	all2 := func(m *meeter, room string) error { _, _, err := m.AdmitAll(ctx, room); return err }
	for what, attempt := range map[string]struct {
		err  error
		code string
	}{
		"answer one's own ask":                    {tobin.Admit(ctx, ask.Ask), "no-ask"},
		"answer without the grant":                {joss.Admit(ctx, ask.Ask), "no-ask"},
		"answer from outside the room":            {outside.Admit(ctx, ask.Ask), "no-ask"},
		"answer without a grant of the room":      {basins.Refuse(ctx, ask.Ask), "no-ask"},
		"guess an ask":                            {hanne.Admit(ctx, "ask-guessed"), "no-ask"},
		"an empty ask":                            {hanne.Admit(ctx, ""), "no-ask"},
		"admit all without the grant":             {all2(joss, gate), "not-granted"},
		"admit all from outside":                  {all2(outside, gate), "not-granted"},
		"admit all of a malformed room":           {all2(hanne, "desk gate"), "bad-room"},
		"accept another's invitation":             {accept(tobin, invitation), "no-invitation"},
		"decline another's invitation":            {tobin.Decline(ctx, invitation), "no-invitation"},
		"withdraw another's invitation":           {joss.Withdraw(ctx, invitation), "no-invitation"},
		"accept one's own invitation":             {accept(hanne, invitation), "no-invitation"},
		"guess an invitation":                     {accept(joss, "invitation-guessed"), "no-invitation"},
		"invite oneself":                          {invite(hanne, "hanne", upstream), "bad-user"},
		"invite nobody":                           {invite(hanne, "", upstream), "bad-user"},
		"invite without the grant":                {invite(tobin, "joss", upstream), "not-granted"},
		"invite into a room one is not granted":   {invite(basins, "joss", upstream), "not-granted"},
		"invite into a room one must ask about":   {invite(joss, "tobin", gate), "must-ask"},
		"invite whom one may not see":             {invite(outside, "joss", upstream), "offline"},
		"invite who does not exist":               {invite(hanne, "nobody", upstream), "offline"},
		"invite who is there":                     {invite(hanne, "joss", weir), "already-here"},
		"do something elsewhere":                  {tobin.Doing(ctx, gate, map[string]int{"x": 1}), "not-in-room"},
		"do too much":                             {tobin.Doing(ctx, weir, map[string]string{"x": strings.Repeat("x", 1100)}), "bad-doing"},
		"do a list":                               {tobin.Doing(ctx, weir, []int{1}), "bad-field"},
		"do a text":                               {tobin.Doing(ctx, weir, "x"), "bad-field"},
		"watch what one asks to be let into":      {tobin.Watch(ctx, gate, ""), "must-ask"},
		"a label that the policy does not have":   {tobin.request(wire.Request{Type: wire.TypeStatus, Status: "busy", Label: "at the pumps"}), "bad-status"},
		"without what cannot be left out":         {tobin.WatchWith(ctx, wire.Watch{Room: weir, Without: []string{"members"}}), "bad-field"},
		"more first members than there can be":    {tobin.WatchWith(ctx, wire.Watch{Room: weir, Limit: 1001}), "bad-field"},
		"fewer first members than none":           {tobin.WatchWith(ctx, wire.Watch{Room: weir, Limit: -1}), "bad-field"},
		"be let in by an operator's watching":     {all2(meetAs(t, client.Options{Server: s.URL(), Key: key}), gate), "watch-only"},
		"be where one may not be, to learn of it": {basins.Join(ctx, gate), "not-granted"},
	} {
		problem := new(wire.Problem)
		require.ErrorAs(t, attempt.err, &problem, what)
		require.Equal(t, attempt.code, problem.Code, what)
	}
	require.Equal(t, refused(t, invite(outside, "joss", upstream), "offline").Allowed, refused(t, invite(outside, "nobody", upstream), "offline").Allowed)

	// A pass is of no use after a removal, and neither is an invitation.
	api := client.API{Server: s.URL(), Key: key}
	require.NoError(t, hanne.Admit(ctx, ask.Ask))
	tobin.member(gate, "tobin", here)
	_, err = api.Remove(ctx, "tobin", gate)
	require.NoError(t, err)
	refused(t, tobin.Join(ctx, gate), "removed")
	_, err = api.Remove(ctx, "joss", upstream)
	require.NoError(t, err)
	refused(t, accept(joss, invitation), "no-invitation")

	// To a key of other rooms what is over is as unknown as what never was.
	made, err := api.AddKey(ctx, wire.NewKey{Role: "write", Rooms: []string{"basin.*"}})
	require.NoError(t, err)
	limited := client.API{Server: s.URL(), Key: made.Key}
	require.Equal(t, refused(t, limited.Admit(ctx, "ask-guessed"), "no-ask").Allowed, refused(t, limited.Admit(ctx, ask.Ask), "no-ask").Allowed)
	require.Equal(t, refused(t, limited.WithdrawInvitation(ctx, "invitation-guessed"), "no-invitation").Allowed, refused(t, limited.WithdrawInvitation(ctx, invitation), "no-invitation").Allowed)
	require.Contains(t, refused(t, api.Admit(ctx, ask.Ask), "no-ask").Allowed, "this one is over: admitted")

	// Hidden people ask nobody, and answer nobody.
	late := meet(t, s, "e-01", all)
	open, err := late.JoinOrAsk(ctx, gate)
	require.NoError(t, err)
	require.NoError(t, hanne.Hide(ctx, true))
	refused(t, hanne.Admit(ctx, open.Ask), "hiding")
	refused(t, all2(hanne, gate), "hiding")
	refused(t, invite(hanne, "e-01", upstream), "hiding")
	asks, err := api.Asks(ctx, "")
	require.NoError(t, err)
	require.Len(t, asks.Asks, 1, "the ask waits as if nobody were there")
}

// request sends a request that the client has no method for.
func (m *meeter) request(r wire.Request) error { return m.Request(m.t.Context(), r) }
