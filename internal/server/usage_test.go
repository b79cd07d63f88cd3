package server_test

import (
	"encoding/json"
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

// TestAQuotaIsToldAndKeptAtEveryDoor fills a realm. Operators and the back end hear of it before anybody is refused;
// then everybody new is, over each kind of link, and nobody who is in.
func TestAQuotaIsToldAndKeptAtEveryDoor(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.GraceLost = time.Minute
	policy.Quota = presence.Quota{People: 5, Sessions: 6, Cues: 4}
	r := receive(t)
	s := startWith(t, server.Config{Policy: &policy, PrivateHooks: true})
	api := client.API{Server: s.URL(), Key: key}
	hook, err := api.AddHook(t.Context(), wire.NewHook{URL: r.url(), Kinds: []string{"quota.near", "quota.reached"}})
	require.NoError(t, err)
	_, err = api.AddHook(t.Context(), wire.NewHook{URL: r.url(), Kinds: []string{"quota.near"}, Rooms: []string{"basin.*"}})
	require.ErrorContains(t, err, "quota.near have no room")

	network := &cable{}
	options := client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, Nonce: "load 1", NetDial: network.dial}
	ilse := dial(t, options)
	for _, user := range []string{"tobin", "hanne", "corin", "merel"} {
		dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir}})
	}

	// Nobody new gets in, and each is told why, in words and a code that says that it may be tried again.
	_, err = client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "wessel"), Rooms: []string{weir}})
	var refused *wire.Problem
	require.ErrorAs(t, err, &refused)
	require.Equal(t, wire.Problem{Code: "quota-reached", Detail: refused.Detail, Field: "people", Value: "5", Allowed: "at most 5 people, in the whole realm"}, *refused)
	require.True(t, wire.Passing(refused.Code))
	opened := ticket(t, s, mint(t, "wessel"), `{"rooms":["`+weir+`"]}`)
	response, text := ask(t, "GET", s.URL()+opened.Feed, "", "")
	require.Equal(t, http.StatusTooManyRequests, response.StatusCode)
	require.Contains(t, text, `"code":"quota-reached"`)
	response, text = ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+mint(t, "wessel"), `{"rooms":["`+weir+`"]}`)
	require.Equal(t, http.StatusTooManyRequests, response.StatusCode)
	require.Contains(t, text, `"code":"quota-reached"`)

	// Who is in comes back, and may open another page up to the quota of sessions.
	require.NoError(t, network.conn.Close())
	<-ilse.Ended()
	options.Resume = ilse.Resume()
	ilse = dial(t, options)
	require.True(t, ilse.Opened().Resumed)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	_, err = client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	require.ErrorContains(t, err, "at most 6 sessions")

	// The back end's cues count, too. A new minute may begin in between.
	given := 0
	require.Eventually(t, func() bool {
		_, err := api.CueRoom(t.Context(), weir, wire.NewCue{Name: "drill"})
		if err == nil {
			given++
			return false
		}
		require.ErrorAs(t, err, &refused)
		return refused.Code == "quota-reached" && refused.Field == "cues"
	}, patience, time.Millisecond)
	require.GreaterOrEqual(t, given, 4)

	// It is on record, told to hooks, in the metrics, and in the usage.
	told := []string{"quota.near people 4 of 5", "quota.reached people 5 of 5", "quota.near sessions 5 of 6", "quota.reached sessions 6 of 6", "quota.near cues 4 of 4", "quota.reached cues 4 of 4"}
	var usage wire.Usage
	require.Eventually(t, func() bool {
		page, err := api.Journal(t.Context(), client.JournalQuery{Kinds: []string{"quota.near", "quota.reached"}, Limit: 100})
		require.NoError(t, err)
		var lines []string
		for _, e := range page.Entries {
			lines = append(lines, strings.Join([]string{e.Kind, e.Reason, e.Note}, " "))
		}
		slices.Sort(lines)
		want := slices.Sorted(slices.Values(told))
		usage, err = api.Usage(t.Context(), "day", time.Time{}, time.Time{})
		require.NoError(t, err)
		return slices.Equal(want, lines) && usage.Total.Cues == given && len(r.all()) == len(told)
	}, patience, 50*time.Millisecond)
	require.NoError(t, verified(hook.Secret, true, r.all()...))
	for _, one := range r.all() {
		var event wire.Event
		require.NoError(t, json.Unmarshal([]byte(one.Body), &event))
		require.Equal(t, []any{event.Data.Quota, true}, []any{event.Subject, *event.Data.Used <= *event.Data.Bound})
	}
	require.Equal(t, []int{5, 6, 6}, []int{usage.Total.PeakPeople, usage.Total.PeakSessions, usage.Total.PeakLinks})
	require.Equal(t, []wire.QuotaUse{{Quota: "people", Used: 5, Limit: 5, Near: true}, {Quota: "sessions", Used: 6, Limit: 6, Near: true}}, usage.Quotas[:2])
	require.Positive(t, usage.Total.PeopleMinutes)
	require.Greater(t, usage.Total.SessionMinutes, usage.Total.PeopleMinutes-0.1)
	_, metrics := ask(t, "GET", s.URL()+"/metrics", "Bearer "+key, "")
	for _, line := range []string{`tovik_quota{quota="people",realm="main"} 5`, `tovik_quota_used{quota="people",realm="main"} 5`, `tovik_quota{quota="cues",realm="main"} 4`} {
		require.Contains(t, metrics, line)
	}

	// What is asked wrongly is told by name.
	response, text = ask(t, "GET", s.URL()+"/v1/usage?step=week", "Bearer "+key, "")
	require.Equal(t, http.StatusBadRequest, response.StatusCode)
	require.Contains(t, text, `"field":"step","value":"week","allowed":"hour, day, month"`)
}
