package server_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// passesThrough makes somebody come and go, and waits until that is on record.
func passesThrough(t *testing.T, s *server.Server, user, room string) {
	t.Helper()
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, user, "**"), Rooms: []string{room}})
	require.NoError(t, link.Bye(t.Context()))
	api := client.API{Server: s.URL(), Key: key}
	require.Eventually(t, func() bool {
		page, err := api.Journal(t.Context(), client.JournalQuery{Users: []string{user}, Kinds: []string{"session.ended"}})
		return err == nil && len(page.Entries) > 0
	}, patience, 10*time.Millisecond)
}

func TestTheJournalOverHTTP(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	for i := range 8 {
		passesThrough(t, s, fmt.Sprintf("w-%d", i), []string{"basin.fen-end", "desk.night"}[i%2])
	}
	all, err := api.Journal(t.Context(), client.JournalQuery{Limit: 1000})
	require.NoError(t, err)
	require.Equal(t, "service.started", all.Entries[0].Kind)
	require.Zero(t, all.Older)
	// Backwards from the end, and forwards from the beginning, in pages.
	var back, forth []wire.Record
	for q := (client.JournalQuery{Limit: 7}); ; {
		page, err := api.Journal(t.Context(), q)
		require.NoError(t, err)
		back = append(append([]wire.Record{}, page.Entries...), back...)
		if q.Before = page.Older; q.Before == 0 {
			break
		}
	}
	for q := (client.JournalQuery{Limit: 7, From: time.Now().Add(-time.Hour)}); ; {
		page, err := api.Journal(t.Context(), q)
		require.NoError(t, err)
		forth = append(forth, page.Entries...)
		if q.After = page.Newer; q.After == 0 {
			break
		}
	}
	require.Equal(t, all.Entries, back)
	require.Equal(t, all.Entries, forth)
	// As lines, and as a table.
	body, err := api.ExportJournal(t.Context(), client.JournalQuery{}, "ndjson")
	require.NoError(t, err)
	var lines []wire.Record
	each(t, body, func(r wire.Record) { lines = append(lines, r) })
	require.NoError(t, body.Close())
	require.Equal(t, all.Entries, lines)
	body, err = api.ExportJournal(t.Context(), client.JournalQuery{Rooms: []string{"desk.*"}, Kinds: []string{"member.left"}}, "csv")
	require.NoError(t, err)
	table, err := csv.NewReader(body).ReadAll()
	require.NoError(t, err)
	require.NoError(t, body.Close())
	require.Len(t, table, 1+4)
	require.Equal(t, []string{"id", "at", "kind", "room", "user"}, table[0][:5])
	require.Equal(t, []string{"member.left", "desk.night", "w-1"}, table[1][2:5])
	for query, field := range map[string]string{"limit=0": "limit", "limit=x": "limit", "from=yesterday": "from", "from=1h&to=2h": "from", "to=-5m": "to", "kind=joined": "kind", "room=a..b": "room",
		"format=xml": "format", "after=-1": "after", "before=x": "before", "user=%01": "user"} {
		response, text := ask(t, "GET", s.URL()+"/v1/journal?"+query, "Bearer "+key, "")
		require.Equal(t, 400, response.StatusCode, query)
		require.Contains(t, text, `"field":"`+field+`"`, query)
	}
}

func TestNoCellOfATableIsAFormula(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	passesThrough(t, s, `=HYPERLINK("http://evil.example")`, weir)
	api := client.API{Server: s.URL(), Key: key}
	body, err := api.ExportJournal(t.Context(), client.JournalQuery{Kinds: []string{"session.ended"}}, "csv")
	require.NoError(t, err)
	defer func() { _ = body.Close() }()
	table, err := csv.NewReader(body).ReadAll()
	require.NoError(t, err)
	require.Equal(t, `'=HYPERLINK("http://evil.example")`, table[1][4])
}

func TestTheJournalIsFollowed(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	heard := make(chan wire.Record, 100)
	done := make(chan error, 1)
	go func() {
		done <- api.FollowJournal(ctx, client.JournalQuery{Rooms: []string{"desk.**"}}, func(r wire.Record) error {
			heard <- r
			return nil
		})
	}()
	next := func(kind string) wire.Record {
		t.Helper()
		for {
			select {
			case r := <-heard:
				if r.Kind == kind {
					return r
				}
			case <-time.After(patience):
				t.Fatalf("%s never came", kind)
			}
		}
	}
	// A follower begins with the next entry, so people come and go until there is one.
	require.Eventually(t, func() bool {
		passesThrough(t, s, "ilse", "desk.night")
		return len(heard) > 0
	}, patience, time.Millisecond)
	passesThrough(t, s, "tobin", "basin.fen-end")
	passesThrough(t, s, "hanne", "desk.night")
	var last wire.Record
	for last.User != "hanne" {
		last = next("member.left")
		require.Equal(t, "desk.night", last.Room)
	}
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
	// A follower that returns with the last id misses nothing.
	passesThrough(t, s, "corin", "desk.night")
	request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/v1/journal?room=desk.**", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+key)
	request.Header.Set("Accept", "text/event-stream")
	request.Header.Set("Last-Event-ID", fmt.Sprint(last.ID))
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer func() { _ = response.Body.Close() }()
	scan := bufio.NewScanner(response.Body)
	for scan.Scan() {
		if data, ok := strings.CutPrefix(scan.Text(), "data: "); ok {
			var r wire.Record
			require.NoError(t, json.Unmarshal([]byte(data), &r))
			require.Equal(t, "corin", r.User)
			require.Equal(t, "member.joined", r.Kind)
			return
		}
	}
	t.Fatal("nothing came")
}

func TestTheDirectoryKnowsWhoIsNotHere(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	wren, err := api.PutPerson(t.Context(), wire.Profile{User: "w-99", Name: "Wren Alder", Attributes: map[string]string{"phone": "17"}})
	require.NoError(t, err)
	require.Equal(t, wire.Person{User: "w-99", Name: "Wren Alder", Attributes: map[string]string{"phone": "17"}, Status: "offline"}, wren)
	report, err := api.ImportPeople(t.Context(), "text/csv", strings.NewReader("user,name,picture,post\nw-1,Ilse Marrow,,weir\nw-2,\"Tobin, of the Salt Gate\",,\n,Nobody,,\nw-3,Hanne,javascript:alert(1),\nw-4,short\n"))
	require.NoError(t, err)
	require.Equal(t, 2, report.Taken)
	places := map[int]string{}
	for _, r := range report.Refused {
		places[r.Line] = r.Field
	}
	require.Equal(t, map[int]string{4: "user", 5: "picture", 6: "line"}, places)
	report, err = api.ImportPeople(t.Context(), "application/x-ndjson", strings.NewReader(`{"user":"w-5","name":"Corin"}`+"\n\nnothing\n"+`{"user":"w-5","name":"Corin Weirside"}`))
	require.NoError(t, err)
	require.Equal(t, 2, report.Taken)
	require.Equal(t, 3, report.Refused[0].Line)
	var many bytes.Buffer
	for i := range 3000 {
		fmt.Fprintf(&many, `{"user":"v-%04d","name":"Volunteer %d"}`+"\n", i, i)
	}
	report, err = api.ImportPeople(t.Context(), "application/x-ndjson", &many)
	require.NoError(t, err)
	require.Equal(t, 3000, report.Taken, "an import may be larger than other bodies")

	token, err := client.Token{User: "w-1", Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
	require.NoError(t, err)
	link := dial(t, client.Options{Server: s.URL(), Token: token, Rooms: []string{weir, "desk.night"}})
	require.NoError(t, link.SetStatus(t.Context(), "busy", "at the sluice", time.Time{}))
	page, err := api.People(t.Context(), "marrow", "", 10)
	require.NoError(t, err)
	require.Len(t, page.People, 1)
	require.Equal(t, "busy", page.People[0].Status)
	require.Equal(t, []string{weir, "desk.night"}, page.People[0].Rooms)
	require.Equal(t, "Ilse Marrow", page.People[0].Name, "what the token does not say stays")
	require.Nil(t, page.People[0].LastSeen)
	before := time.Now()
	require.NoError(t, link.Bye(t.Context()))
	var ilse wire.Person
	require.Eventually(t, func() bool {
		ilse, err = api.Person(t.Context(), "w-1")
		return err == nil && ilse.LastSeen != nil
	}, patience, 10*time.Millisecond)
	require.Equal(t, "offline", ilse.Status)
	require.Equal(t, "busy", ilse.Set, "a set status survives")
	require.InDelta(t, 0, ilse.LastSeen.Sub(before).Seconds(), patience.Seconds())
	var users []string
	for after := ""; ; {
		page, err := api.People(t.Context(), "w-", after, 2)
		require.NoError(t, err)
		for _, p := range page.People {
			users = append(users, p.User)
		}
		if after = page.Next; after == "" {
			break
		}
	}
	require.Equal(t, []string{"w-1", "w-2", "w-5", "w-99"}, users)
	require.NoError(t, api.DropPerson(t.Context(), "w-99"))
	var problem *client.Error
	require.ErrorAs(t, api.DropPerson(t.Context(), "w-1"), &problem, "who was here is erased, not dropped")
	require.Equal(t, "unknown-person", problem.Code)
}

func TestADeclaredRoomMissesWhomItExpects(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := func() (*server.Server, client.API) {
		s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dir})
		require.NoError(t, err)
		return s, client.API{Server: s.URL(), Key: key}
	}
	s, api := run()
	room, err := api.Declare(t.Context(), "desk.night", []string{"ilse", "tobin", "ilse"})
	require.NoError(t, err)
	require.Equal(t, wire.DeclaredRoom{Room: "desk.night", Declared: true, Expected: []string{"ilse", "tobin"}, Missing: []string{"ilse", "tobin"}}, room)
	require.NoError(t, s.Stop())
	s, api = run()
	defer func() { require.NoError(t, s.Stop()) }()
	count, err := api.Count(t.Context(), "desk.night")
	require.NoError(t, err, "it is there while nobody is in it, also after a restart")
	require.Zero(t, count.People)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin", "**"), Rooms: []string{"desk.night"}})
	room, err = api.Expected(t.Context(), "desk.night")
	require.NoError(t, err)
	require.Equal(t, []string{"ilse"}, room.Missing)
	require.NoError(t, api.Undeclare(t.Context(), "desk.night"))
	var problem *client.Error
	require.ErrorAs(t, api.Undeclare(t.Context(), "desk.night"), &problem)
	require.Equal(t, "unknown-room", problem.Code)
}

// TestABackupIsOfOneMoment takes a backup while people come and go, and starts a service with
// it.
func TestABackupIsOfOneMoment(t *testing.T) {
	t.Parallel()
	for _, data := range []string{t.TempDir(), records.Memory} {
		s := startWith(t, server.Config{Data: data})
		api := client.API{Server: s.URL(), Key: key}
		for i := range 5 {
			dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprintf("w-%d", i)), Rooms: []string{weir}})
		}
		passesThrough(t, s, "ilse", weir)
		body, err := api.Backup(t.Context())
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "night.db")
		text, err := io.ReadAll(body)
		require.NoError(t, err)
		require.NoError(t, body.Close())
		require.NoError(t, os.WriteFile(file, text, 0o600))
		dir := t.TempDir()
		aside, err := records.Restore(file, dir)
		require.NoError(t, err)
		require.Empty(t, aside)
		findings, err := records.Check(t.Context(), dir)
		require.NoError(t, err)
		for _, f := range findings {
			require.False(t, f.Wrong, "%v", f)
			if f.What == "sessions that have not ended" {
				require.Equal(t, int64(5), f.Number)
			}
		}
		if data != records.Memory {
			_, err = records.Restore(file, data)
			require.ErrorContains(t, err, "in use", "not under a service that runs")
			left, err := filepath.Glob(filepath.Join(data, ".backup*"))
			require.NoError(t, err)
			require.Empty(t, left)
		}
		aside, err = records.Restore(file, dir)
		require.NoError(t, err)
		require.FileExists(t, aside)
		require.NoError(t, os.WriteFile(file, text[:len(text)/2], 0o600))
		_, err = records.Restore(file, dir)
		require.Error(t, err, "half of a backup is none")
	}
}

func TestHeadcountsOverHTTP(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	passesThrough(t, s, "tobin", weir)
	var doc wire.Headcounts
	var both wire.Headcount
	require.Eventually(t, func() bool { // the present minute is at most a few seconds old, and may have just begun
		var err error
		doc, err = api.Headcounts(t.Context(), weir, "minute", time.Time{}, time.Time{}, 0)
		joins := 0
		for _, step := range doc.Steps {
			joins += step.Joins
			if step.People.Max == 2 {
				both = step
			}
		}
		return err == nil && joins == 2 && both.People.Max == 2
	}, patience, 100*time.Millisecond)
	require.Equal(t, 2, both.Distinct)
	stays, err := api.Attendance(t.Context(), weir, time.Now().Add(-time.Hour), time.Now())
	require.NoError(t, err)
	require.Len(t, stays.Stays, 2)
	for _, stay := range stays.Stays { // who came first is a matter of a millisecond
		require.Equal(t, stay.User == "ilse", stay.Left == nil, "%s is there still, or has left", stay.User)
	}
	for query, field := range map[string]string{"step=week": "step", "top=0": "top", "from=1h&to=2h": "from", "room=a..b": "room"} {
		response, text := ask(t, "GET", s.URL()+"/v1/headcount?"+query, "Bearer "+key, "")
		require.Equal(t, 400, response.StatusCode, query)
		require.Contains(t, text, `"field":"`+field+`"`, query)
	}
	response, text := ask(t, "GET", s.URL()+"/v1/headcount?format=csv&room="+url.QueryEscape(weir), "Bearer "+key, "")
	require.Equal(t, 200, response.StatusCode)
	table, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Equal(t, "people_max", table[0][2])
}
