package server_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// TestWhyAnswersForEachStatus checks the deciding rule of each status.
func TestWhyAnswersForEachStatus(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	why := func(user string) (wire.Explanation, string) {
		t.Helper()
		doc, err := api.Explain(t.Context(), user, weir)
		require.NoError(t, err)
		decides := ""
		for _, r := range doc.Rules {
			if r.Decides {
				require.Empty(t, decides, "one rule decides")
				require.True(t, r.Holds)
				decides = r.Rule
			}
		}
		return doc, decides
	}
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	doc, rule := why("ilse")
	require.Equal(t, "online", doc.Status)
	require.Equal(t, string(presence.RuleAwake), rule)
	require.Contains(t, doc.Words[0], "somebody did something at their session")
	require.Contains(t, doc.Words[1], "They are in "+weir)
	require.NotEmpty(t, doc.Sessions[0].Next)
	require.NoError(t, link.Idle(t.Context()))
	doc, rule = why("ilse")
	require.Equal(t, "away", doc.Status)
	require.Equal(t, string(presence.RuleIdle), rule)
	require.Contains(t, doc.Words[0], "nobody is at their session")
	require.Contains(t, doc.Words[2], "it said that nobody is there")
	elsewhere := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{}})
	doc, rule = why("ilse")
	require.Equal(t, string(presence.RuleAwake), rule, "in another room than the one that is asked about")
	require.Contains(t, doc.Words[0], "that is not in "+weir)
	require.True(t, doc.Rules[3].Holds)
	require.NoError(t, elsewhere.Bye(t.Context()))
	_, err := api.SetStatus(t.Context(), "ilse", wire.StatusWanted{Status: "busy", Note: "at the sluice", Until: &wire.Time{Time: time.Now().Add(time.Hour)}})
	require.NoError(t, err)
	doc, rule = why("ilse")
	require.Equal(t, "busy", doc.Status)
	require.Equal(t, string(presence.RuleSet), rule)
	require.Contains(t, doc.Words[0], "have set that themselves, until ")
	noted, err := api.SetStatus(t.Context(), "ilse", wire.StatusWanted{Note: "on foot"})
	require.NoError(t, err)
	require.Equal(t, []string{"away", "on foot"}, []string{noted.Status, noted.Note}, "a note follows the sessions")
	doc, rule = why("ilse")
	require.Equal(t, string(presence.RuleIdle), rule)
	require.Contains(t, doc.Words, `They have set a note, "on foot".`)
	require.Equal(t, "on foot", doc.Note)
	cleared, err := api.SetStatus(t.Context(), "ilse", wire.StatusWanted{})
	require.NoError(t, err)
	require.Equal(t, []string{"away", ""}, []string{cleared.Status, cleared.Note})
	require.NoError(t, link.Bye(t.Context()))
	require.Eventually(t, func() bool { doc, _ := why("ilse"); return doc.Last != nil }, patience, 10*time.Millisecond)
	doc, rule = why("ilse")
	require.Equal(t, "offline", doc.Status)
	require.Equal(t, string(presence.RuleNoSession), rule)
	_, err = api.Explain(t.Context(), "nobody", "")
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "unknown-person", problem.Code)
	_, err = api.SetStatus(t.Context(), "ilse", wire.StatusWanted{Status: "asleep"})
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "bad-status", problem.Code)
	all, err := api.Statuses(t.Context(), "ilse", "nobody")
	require.NoError(t, err)
	require.Equal(t, []string{"offline", "offline"}, []string{all.Statuses[0].Status, all.Statuses[1].Status})
	require.NotNil(t, all.Statuses[0].LastSeen)
	counts, err := api.Counts(t.Context(), weir, "desk.nowhere")
	require.NoError(t, err)
	require.Len(t, counts.Counts, 2)
}

// TestWhyAnswersForEachReason checks the explanation of each way to end, from the journal.
func TestWhyAnswersForEachReason(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.GraceLost, policy.Lease, policy.SecondSession = 300*time.Millisecond, 400*time.Millisecond, presence.ReplaceFirst
	s := startWith(t, server.Config{Policy: policy})
	api := client.API{Server: s.URL(), Key: key}
	opens := func(user string) *client.Link {
		return dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir}})
	}
	closing := opens("closing")
	require.NoError(t, closing.Closing(t.Context()))
	opens("lost").Close()
	require.NoError(t, opens("bye").Bye(t.Context()))
	require.NoError(t, opens("leave").Leave(t.Context(), weir))
	opens("removed")
	_, err := api.Remove(t.Context(), "removed", "")
	require.NoError(t, err)
	response, text := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+mint(t, "silent"), `{"rooms":["`+weir+`"]}`)
	require.Equal(t, 200, response.StatusCode, text)
	dialBriefly(t, client.Options{Server: s.URL(), Rooms: []string{weir}}, "expired", "**")
	opens("replaced")
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "replaced")})
	for reason, words := range wire.Reasons {
		var doc wire.Explanation
		require.Eventually(t, func() bool {
			doc, err = api.Explain(t.Context(), reason, weir)
			return err == nil && doc.Last != nil
		}, patience, 20*time.Millisecond, reason)
		require.Equal(t, reason, doc.Last.Reason)
		require.Contains(t, strings.Join(doc.Words, " "), "because "+words.Ended)
	}
}

func TestSessionsAreListedByPerson(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	for _, user := range []string{"ilse", "ilse", "tobin", "hanne"} {
		dial(t, client.Options{Server: s.URL(), Token: mint(t, user, "**"), Rooms: []string{map[string]string{"hanne": "desk.night", "ilse": weir, "tobin": weir}[user]}})
	}
	var users []string
	for after := ""; ; {
		page, err := api.Sessions(t.Context(), "", after, 2)
		require.NoError(t, err)
		for _, session := range page.Sessions {
			users = append(users, session.User)
			require.Equal(t, "websocket", session.Over)
			require.Equal(t, "live", session.State)
		}
		if after = page.Next; after == "" {
			break
		}
	}
	require.Equal(t, []string{"hanne", "ilse", "ilse", "tobin"}, users)
	page, err := api.Sessions(t.Context(), "desk.night", "", 10)
	require.NoError(t, err)
	require.Len(t, page.Sessions, 1)
	own, err := api.SessionsOf(t.Context(), "ilse")
	require.NoError(t, err)
	require.Len(t, own.Sessions, 2)
	policies, err := api.Policies(t.Context(), weir)
	require.NoError(t, err)
	require.Equal(t, int64(10_000), policies.Policies[0].GraceLost)
}

// TestMetricsSayWhatTheAPISays compares the metrics with the API, and checks their form.
func TestMetricsSayWhatTheAPISays(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for _, user := range []string{"ilse", "ilse", "tobin"} {
		dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir}})
	}
	leased, text := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+mint(t, "gauge"), `{"rooms":["`+weir+`"]}`)
	require.Equal(t, 200, leased.StatusCode, text)
	refusedWith(t, "bad-token", client.Options{Server: s.URL(), Token: "none"})
	passesThrough(t, s, "hanne", weir)
	request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/metrics", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+key)
	value := func(name, label, is string) float64 {
		t.Helper()
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer func() { _ = response.Body.Close() }()
		require.Equal(t, 200, response.StatusCode)
		parser := expfmt.NewTextParser(model.UTF8Validation)
		families, err := parser.TextToMetricFamilies(response.Body)
		require.NoError(t, err)
		require.Contains(t, families, name)
		for _, m := range families[name].Metric {
			if label == "" {
				return m.GetCounter().GetValue()
			}
			for _, l := range m.Label {
				if l.GetName() == label && l.GetValue() == is {
					return m.GetGauge().GetValue() + m.GetCounter().GetValue()
				}
			}
		}
		return 0
	}
	require.Eventually(t, func() bool { return value("tovik_links", "kind", "websocket") == 3 }, patience, 20*time.Millisecond)
	require.Equal(t, 1.0, value("tovik_links", "kind", "beats"))
	require.Equal(t, 1.0, value("tovik_beats_total", "", ""))
	require.Equal(t, 4.0, value("tovik_sessions", "state", "live"))
	require.Equal(t, 4.0, value("tovik_joins_total", "realm", "main"))
	api := client.API{Server: s.URL(), Key: key}
	sessions, err := api.Sessions(t.Context(), "", "", 10)
	require.NoError(t, err)
	over, people := map[string]float64{}, map[string]bool{}
	for _, s := range sessions.Sessions {
		over[s.Over]++
		people[s.User] = true
	}
	require.Equal(t, map[string]float64{"websocket": 3, "beats": 1}, over)
	require.Equal(t, float64(len(people)), value("tovik_people", "realm", "main"))
	health, err := api.Health(t.Context())
	require.NoError(t, err)
	require.Equal(t, &wire.RealmHealth{Realm: "main", People: len(people), Sessions: 4, Links: 3}, health.Realm)
	require.Equal(t, "ok", health.Records.Status)
	made, err := api.AddKey(t.Context(), wire.NewKey{Role: "read", Rooms: []string{"basin.*"}})
	require.NoError(t, err)
	health, err = client.API{Server: s.URL(), Key: made.Key}.Health(t.Context())
	require.NoError(t, err)
	require.Nil(t, health.Realm, "a key limited to some rooms")
	require.Equal(t, 1.0, value("tovik_sessions_ended_total", "reason", "bye"))
	require.Equal(t, 1.0, value("tovik_hellos_refused_total", "code", "bad-token"))
	response, body := ask(t, "GET", s.URL()+"/metrics", "Bearer "+key, "")
	require.Equal(t, 200, response.StatusCode)
	problems, err := promlint.New(strings.NewReader(body)).Lint()
	require.NoError(t, err)
	require.Empty(t, problems)
	response, _ = ask(t, "GET", s.URL()+"/metrics", "", "")
	require.Equal(t, 401, response.StatusCode)
}
