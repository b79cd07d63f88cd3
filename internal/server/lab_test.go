package server_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/config"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/rehearsal"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// aNight writes a night of the watch into new records, and returns their directory with the pages
// that are open in the end.
func aNight(t *testing.T, policy presence.Policy) (dir string, open []rehearsal.Tab) {
	t.Helper()
	dir = t.TempDir()
	store, err := records.Open(dir)
	require.NoError(t, err)
	end := time.Now().Truncate(time.Millisecond)
	s := rehearsal.Script{Policy: policy, Begin: end.Add(-10 * time.Hour), Length: 10 * time.Hour, Seed: 18}
	past, err := records.NewPast(store, "main", s.Begin, nil)
	require.NoError(t, err)
	s.Tell = past.Record
	spread := func(median time.Duration) rehearsal.Spread { return rehearsal.Spread{Median: median, Sigma: 1} }
	for i := range 20 {
		s.Cast = append(s.Cast, rehearsal.Character{
			User: presence.UserID(fmt.Sprintf("w-%02d", i)), Profile: presence.Profile{Name: fmt.Sprint("Volunteer ", i)}, Rooms: []presence.RoomName{weir, "basin.fen-end"}, Tabs: 1 + i%2,
			Shifts: []rehearsal.Shift{{From: time.Duration(i) * time.Minute, To: 5 * time.Hour}, {From: 6 * time.Hour, To: 20 * time.Hour}},
			Habits: rehearsal.Habits{Every: spread(4 * time.Minute), Input: spread(time.Minute), Closing: rehearsal.Incident{Weight: 3, Gap: spread(time.Second), Never: 0.1},
				Lost: rehearsal.Incident{Weight: 2, Gap: spread(5 * time.Second)}, Typing: rehearsal.Incident{Weight: 2, Gap: spread(8 * time.Second)}, Quiet: rehearsal.Incident{Weight: 1, Gap: spread(10 * time.Minute)}},
		})
	}
	saved, open := s.Play()
	require.NoError(t, past.Close(t.Context(), end, saved))
	require.NoError(t, store.Close())
	return dir, open
}

// TestAServiceGoesOnFromAWrittenPast starts a service on a past: open pages resume, and journal,
// attendance, headcounts, directory and timings have it.
func TestAServiceGoesOnFromAWrittenPast(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.GraceLost = 10 * time.Minute // on a busy machine, coming back takes long
	dir, open := aNight(t, policy)
	s := startWith(t, server.Config{Data: dir, Policy: &policy})
	api := client.API{Server: s.URL(), Key: key}
	require.NotEmpty(t, open)
	for _, tab := range open {
		link := dial(t, client.Options{Server: s.URL(), Token: mint(t, string(tab.User)), Rooms: []string{string(tab.Room)}, Resume: &wire.Resume{Session: string(tab.Session), ResumeKey: tab.Key}})
		require.Equal(t, string(tab.Session), link.Resume().Session)
	}
	members, err := api.Members(t.Context(), weir)
	require.NoError(t, err)
	require.NotEmpty(t, members.Members)
	for _, m := range members.Members {
		require.Less(t, time.Until(m.Since.Time), -time.Second, "nobody has just come")
	}
	hours, err := api.Headcounts(t.Context(), weir, "hour", time.Now().Add(-12*time.Hour), time.Time{}, 0)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(hours.Steps), 9)
	person, err := api.Person(t.Context(), "w-03")
	require.NoError(t, err)
	require.Equal(t, "Volunteer 3", person.Name)

	said := 0.0
	doc, err := api.Timing(t.Context(), client.TimingQuery{From: time.Now().Add(-12 * time.Hour), Tries: []string{"grace.lost=45s", "grace.closing=200ms"}}, func(done float64) { said = done })
	require.NoError(t, err)
	require.Positive(t, said)
	stays, err := api.Attendance(t.Context(), weir, time.Now().Add(-12*time.Hour), time.Time{})
	require.NoError(t, err)
	left := len(slices.DeleteFunc(stays.Stays, func(s wire.Stay) bool { return s.Left == nil }))
	require.Equal(t, left, doc.Leaves)
	require.Equal(t, doc.Leaves, doc.InForce.Leaves)
	require.Zero(t, doc.Exceptions.Recorded+doc.Exceptions.Replayed)
	require.Greater(t, doc.Tried.Flickers, doc.InForce.Flickers, "a page that reloads leaves for a moment")
	closing := doc.Losses[0]
	require.Equal(t, "closing", closing.Cause)
	require.Greater(t, closing.InTime+closing.Late+closing.Never, int64(200))
	require.InDelta(t, 1000, closing.Gaps.Quantiles[0].Value, 300, "half of them, within a second")
	require.Positive(t, doc.Typing.Times)
	require.Positive(t, doc.Idle.Times)
	require.Nil(t, doc.Advice[0].Grace, "there are too few")
	require.Equal(t, int64(3000), doc.Advice[0].InForce.Grace)

	inRoom, err := api.Timing(t.Context(), client.TimingQuery{From: time.Now().Add(-12 * time.Hour), Room: "desk.*"}, func(float64) {})
	require.NoError(t, err)
	require.Zero(t, inRoom.Leaves)
	for try, field := range map[string]string{"grace.lots=3s": "try", "grace.lost": "try", "grace.lost=soon": "try", "beat.tolerance=0": "try", "lease=1000h": "try"} {
		_, err := api.Timing(t.Context(), client.TimingQuery{Tries: []string{try}}, func(float64) {})
		var problem *client.Error
		require.ErrorAs(t, err, &problem, try)
		require.Equal(t, field, problem.Field)
		require.NotEmpty(t, problem.Allowed)
	}
}

// TestWhatOperatorsDoIsInTheJournal does everything that changes a realm, and reads who did it.
func TestWhatOperatorsDoIsInTheJournal(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	s := startWith(t, server.Config{PrivateHooks: true, Policy: &policy, Reread: func() (server.Config, error) {
		longer := policy
		longer.GraceLost = time.Minute
		return server.Config{Policy: &longer, PrivateHooks: true}, nil
	}})
	own, ctx := client.API{Server: s.URL(), Key: key}, t.Context()
	made, err := own.AddKey(ctx, wire.NewKey{Name: "flood desk", Role: "operate"})
	require.NoError(t, err)
	api := client.API{Server: s.URL(), Key: made.Key}
	hook, err := api.AddHook(ctx, wire.NewHook{Name: "siren", URL: "http://127.0.0.1:9/", Kinds: []string{"room.empty"}})
	require.NoError(t, err)
	_, err = api.ChangeHook(ctx, hook.ID, wire.NewHook{Name: "siren", URL: "http://127.0.0.1:9/", Kinds: []string{"room.first-in"}})
	require.NoError(t, err)
	_, err = api.RotateSecret(ctx, hook.ID)
	require.NoError(t, err)
	require.NoError(t, api.RemoveHook(ctx, hook.ID))
	_, err = api.AddTokenKey(ctx, wire.NewTokenKey{ID: "watch-house", Algorithm: "HS256", Key: secret})
	require.NoError(t, err)
	require.NoError(t, api.RevokeTokenKey(ctx, "watch-house"))
	_, err = api.Declare(ctx, "desk.night", []string{"ilse"})
	require.NoError(t, err)
	require.NoError(t, api.Undeclare(ctx, "desk.night"))
	_, err = api.PutPerson(ctx, wire.Profile{User: "ilse", Name: "Ilse Marrow"})
	require.NoError(t, err)
	_, err = api.Remove(ctx, "ilse", weir)
	require.NoError(t, err)
	require.NoError(t, api.SignOut(ctx, "ilse"))
	export, err := api.ExportPerson(ctx, "ilse")
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, export)
	require.NoError(t, errors.Join(err, export.Close()))
	_, err = own.Erase(ctx, "tobin")
	require.NoError(t, err)
	backup, err := own.Backup(ctx)
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, backup)
	require.NoError(t, errors.Join(err, backup.Close()))
	_, err = own.Reload(ctx)
	require.NoError(t, err)
	require.NoError(t, own.RevokeKey(ctx, made.ID))

	want := []string{
		"service.started", "key.added service " + made.ID + " flood desk", "hook.added " + made.ID + " " + hook.ID + " siren", "hook.changed " + made.ID + " " + hook.ID + " siren",
		"hook.changed " + made.ID + " " + hook.ID + " siren", "hook.removed " + made.ID + " " + hook.ID, "token-key.added " + made.ID + " watch-house", "token-key.revoked " + made.ID + " watch-house",
		"room.declared " + made.ID + " desk.night", "room.undeclared " + made.ID + " desk.night", "person.removed " + made.ID + " ilse " + weir, "person.signed-out " + made.ID + " ilse",
		"person.exported " + made.ID + " ilse", "person.erased service", "records.backed-up service", "config.reloaded service policies", "key.revoked service " + made.ID,
	}
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		page, err := own.Journal(ctx, client.JournalQuery{Limit: 100})
		require.NoError(c, err)
		var said []string
		for _, r := range page.Entries {
			said = append(said, strings.Join(strings.Fields(strings.Join([]string{r.Kind, r.By, r.User, r.Room, r.Note}, " ")), " "))
		}
		require.Equal(c, want, said)
	}, patience, 50*time.Millisecond)
	page, err := own.Journal(ctx, client.JournalQuery{ByCause: true})
	require.NoError(t, err)
	require.Empty(t, page.Entries)
	texts := make([]string, len(page.Lines))
	for i, line := range page.Lines {
		texts[i] = line.Text
	}
	require.Contains(t, texts, "The hook "+hook.ID+" siren was added with the key "+made.ID)
	require.Contains(t, texts, "A person was erased with the key service")
	require.Contains(t, texts, "was removed from "+weir+" with the key "+made.ID)
}

// TestEverythingAboutAPersonIsExported makes a trace of every kind, exports it, and erases it:
// then nothing is left to export, also of what the person did with others.
func TestEverythingAboutAPersonIsExported(t *testing.T) {
	t.Parallel()
	hooked := receive(t)
	s := startWith(t, server.Config{Data: t.TempDir(), PrivateHooks: true, Policy: askingAt("desk.meeting")})
	api, ctx := client.API{Server: s.URL(), Key: key}, t.Context()
	_, err := api.AddHook(ctx, wire.NewHook{URL: hooked.url(), Kinds: []string{"invitation.opened", "member.joined"}})
	require.NoError(t, err)
	grants := wire.Grants{Rooms: []string{"**"}, Invite: []string{"**"}, Near: true}
	ilse := dial(t, client.Options{Server: s.URL(), Token: mintGrants(t, "ilse", grants), Rooms: []string{weir}})
	tobin := dial(t, client.Options{Server: s.URL(), Token: mintGrants(t, "tobin", grants), Rooms: []string{weir}})
	_, err = tobin.Invite(ctx, "ilse", "basin.fen-end")
	require.NoError(t, err)
	require.NoError(t, ilse.Join(ctx, "desk.meeting"), "asks")
	_, err = api.GrantPass(ctx, "desk.other", "ilse", wire.PassWanted{})
	require.NoError(t, err)
	_, err = api.Remove(ctx, "ilse", "levee.north-bank")
	require.NoError(t, err)
	_, err = api.Declare(ctx, "desk.night", []string{"ilse"})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(hooked.all()) >= 3 }, patience, 20*time.Millisecond)

	export := func(user string) map[string]int {
		body, err := api.ExportPerson(ctx, user)
		require.NoError(t, err)
		defer func() { require.NoError(t, body.Close()) }()
		lines, found := json.NewDecoder(body), map[string]int{}
		for {
			var line wire.ExportLine
			if err := lines.Decode(&line); errors.Is(err, io.EOF) {
				return found
			}
			require.NoError(t, err)
			found[line.What]++
			text, err := json.Marshal(line)
			require.NoError(t, err)
			require.True(t, strings.Contains(string(text), user) || line.What == "expected" || line.What == "pass", "%s", text)
		}
	}
	found := export("ilse")
	for what, least := range map[string]int{"person": 1, "session": 1, "pass": 1, "removal": 1, "ask": 1, "invitation": 1, "expected": 1, "entry": 6, "delivery": 2} {
		require.GreaterOrEqual(t, found[what], least, "%s of %v", what, found)
	}
	_, err = api.Erase(ctx, "ilse")
	require.NoError(t, err)
	_, err = api.ExportPerson(ctx, "ilse")
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "unknown-person", problem.Code)
	page, err := api.Journal(ctx, client.JournalQuery{Limit: 1000})
	require.NoError(t, err)
	for _, r := range page.Entries {
		require.NotEqual(t, "ilse", r.Other, "%+v", r)
	}
	require.Positive(t, export("tobin")["entry"])
}

// TestEachRealmHasItsOwnPolicy compares what two realms tell their clients, before and after a
// reload.
func TestEachRealmHasItsOwnPolicy(t *testing.T) {
	t.Parallel()
	service, training, later := presence.DefaultPolicy(), presence.DefaultPolicy(), presence.DefaultPolicy()
	training.Lease, training.IdleAfter, later.IdleAfter = 77*time.Second, 9*time.Minute, 11*time.Minute
	s := startWith(t, server.Config{Policy: &service, Realms: map[string]server.RealmConfig{"training": {Policy: &training}}, Reread: func() (server.Config, error) {
		return server.Config{Policy: &service, Realms: map[string]server.RealmConfig{"training": {Policy: &later}}}, nil
	}})
	api, ctx := client.API{Server: s.URL(), Key: key}, t.Context()
	made, err := api.AddKey(ctx, wire.NewKey{Role: "operate", Realm: "training"})
	require.NoError(t, err)
	there := client.API{Server: s.URL(), Key: made.Key}
	const its = "a secret of the training realm, long enough"
	_, err = there.AddTokenKey(ctx, wire.NewTokenKey{ID: "drill", Algorithm: "HS256", Key: its})
	require.NoError(t, err)
	out, err := exec.CommandContext(ctx, "node", "../../test/jose.mjs", "HS256", "drill", its).Output()
	require.NoError(t, err)
	var signed struct{ Token string }
	require.NoError(t, json.Unmarshal(out, &signed))
	idle := func(api client.API) int64 {
		doc, err := api.Policies(ctx, weir)
		require.NoError(t, err)
		return doc.Policies[0].IdleAfter
	}
	require.Equal(t, []int64{300_000, 540_000}, []int64{idle(api), idle(there)})
	var lease wire.Lease
	request, err := http.NewRequestWithContext(ctx, http.MethodPut, s.URL()+"/v1/sessions/new", strings.NewReader("{}"))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+signed.Token)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.NoError(t, errors.Join(json.NewDecoder(response.Body).Decode(&lease), response.Body.Close()))
	require.Equal(t, int64(77_000), lease.Lease)
	done, err := api.Reload(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"policies"}, done.Changed)
	require.Equal(t, []int64{300_000, 660_000}, []int64{idle(api), idle(there)})
}

// TestWhatTheConsoleShowsIsStreamed reads the streams that the console has in the place of
// requests: each tells the state at once, and then each change.
func TestWhatTheConsoleShowsIsStreamed(t *testing.T) {
	t.Parallel()
	hooked := receive(t)
	s := startWith(t, server.Config{PrivateHooks: true, HookRetries: []time.Duration{time.Hour}})
	api := client.API{Server: s.URL(), Key: key}
	hook, err := api.AddHook(t.Context(), wire.NewHook{URL: hooked.url(), Kinds: []string{"member.joined"}})
	require.NoError(t, err)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Rooms: []string{"basin.fen-end"}})
	health := streamed[wire.ServiceHealth](t, s, "/v1/health", "health")
	require.Equal(t, 1, (<-health).Realm.People)
	headcount := streamed[wire.Headcounts](t, s, "/v1/headcount?room=basin.fen-end&room=&step=minute&from=1h", "headcount")
	require.Equal(t, []string{"basin.fen-end", ""}, []string{(<-headcount).Room, (<-headcount).Room})
	deliveries := streamed[wire.Deliveries](t, s, "/v1/hooks/"+hook.ID+"/deliveries", "deliveries")
	<-deliveries
	lines := streamed[wire.JournalLine](t, s, "/v1/journal?by=cause", "line")

	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	for h := range health {
		if h.Realm.People == 2 {
			break
		}
	}
	for d := range deliveries {
		if slices.ContainsFunc(d.Deliveries, func(d wire.Delivery) bool {
			return d.State == records.Delivered && d.Kind == string(journal.MemberJoined)
		}) {
			break
		}
	}
	require.NoError(t, link.Bye(t.Context()))
	for line := range lines {
		if line.User == "ilse" && strings.HasPrefix(line.Text, "left "+weir) {
			require.Equal(t, "left "+weir+" and went offline: signed off", line.Text)
			break
		}
	}
	for path, field := range map[string]string{"/v1/headcount?" + strings.Repeat("room=a&", 101): "room", "/v1/journal?by=hour": "by"} {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL()+path, http.NoBody)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+key)
		request.Header.Set("Accept", "text/event-stream")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		var problem wire.Problem
		require.NoError(t, errors.Join(json.NewDecoder(response.Body).Decode(&problem), response.Body.Close()))
		require.Equal(t, []any{400, field}, []any{response.StatusCode, problem.Field})
	}
}

// streamed returns the documents of an event stream as they come.
func streamed[T any](t *testing.T, s *server.Server, path, event string) <-chan T {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	t.Cleanup(cancel)
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL()+path, http.NoBody)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+key)
	request.Header.Set("Accept", "text/event-stream")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.Equal(t, 200, response.StatusCode)
	told := make(chan T, 1000)
	go func() {
		defer close(told)
		defer func() { _ = response.Body.Close() }()
		name := ""
		for lines := bufio.NewScanner(response.Body); lines.Scan(); {
			if text, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				name = text
			}
			var document T
			if text, ok := strings.CutPrefix(lines.Text(), "data: "); ok && name == event && json.Unmarshal([]byte(text), &document) == nil {
				told <- document
			}
		}
	}()
	return told
}

// TestTheAdvisedLinesAreAConfiguration writes returns enough for advice, and reads the advised
// lines as a configuration, for a realm, and for rooms of a pattern in another realm.
func TestTheAdvisedLinesAreAConfiguration(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	store, err := records.Open(dir)
	require.NoError(t, err)
	at, id := time.Now().Add(-48*time.Hour).Truncate(time.Second).UnixMilli(), int64(0)
	for _, realm := range []string{"main", "training"} {
		var entries []journal.Entry
		add := func(e journal.Entry) {
			id++
			e.ID, e.At, e.Realm, e.User, e.Session = id, at, realm, "w-01", "s1"
			entries = append(entries, e)
		}
		add(journal.Entry{Kind: journal.SessionOpened, Over: "websocket"})
		add(journal.Entry{Kind: journal.MemberJoined, Room: weir})
		for n := range int64(21_000) {
			gap := 200 + n%4000
			add(journal.Entry{Kind: journal.SessionLost, Reason: "closing"})
			at += gap
			add(journal.Entry{Kind: journal.SessionResumed, Length: gap})
		}
		require.NoError(t, store.ImportEntries(entries))
	}
	require.NoError(t, store.Close())
	policy := presence.DefaultPolicy()
	policy.Rooms = []presence.PatternPolicy{{Pattern: "basin.*", RoomPolicy: policy.RoomPolicy}}
	s := startWith(t, server.Config{Data: dir, Policy: &policy, Realms: map[string]server.RealmConfig{"training": {}}})
	main := client.API{Server: s.URL(), Key: key}
	made, err := main.AddKey(t.Context(), wire.NewKey{Role: "operate", Realm: "training"})
	require.NoError(t, err)
	for _, study := range []struct {
		api  client.API
		room string
		of   func(config.Settings) presence.Policy
	}{
		{main, "", func(s config.Settings) presence.Policy { return s.Policy() }},
		{client.API{Server: s.URL(), Key: made.Key}, "basin.*", func(s config.Settings) presence.Policy { return *s.Realms[0].OwnPolicy() }},
	} {
		doc, err := study.api.Timing(t.Context(), client.TimingQuery{From: time.Now().Add(-72 * time.Hour), Room: study.room}, func(float64) {})
		require.NoError(t, err)
		require.NotNil(t, doc.Advice[0].Grace)
		file := filepath.Join(t.TempDir(), "tovik.toml")
		require.NoError(t, os.WriteFile(file, []byte(doc.Config), 0o600))
		settings, err := config.Read(file, config.FromEnvironment(func(string) (string, bool) { return "", false }))
		require.NoError(t, err, doc.Config)
		policy := study.of(settings)
		require.Equal(t, int64(doc.Advice[0].Grace.Value), policy.For(weir).GraceClosing.Milliseconds(), doc.Config)
		if study.room != "" {
			require.Equal(t, 3*time.Second, policy.GraceClosing, "the other rooms keep theirs")
		}
	}
}
