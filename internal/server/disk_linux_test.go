package server_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// smallDisk mounts a file system of a given size.
func smallDisk(t *testing.T, size string) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tovik", dir, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("a file system cannot be mounted here, so a full disk is not tried: %v", err)
	}
	t.Cleanup(func() { require.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) })
	return dir
}

// onRecord waits for a state of the records.
func onRecord(t *testing.T, api client.API, status string) wire.RecordsHealth {
	t.Helper()
	var doc wire.Readiness
	require.Eventually(t, func() bool {
		var err error
		doc, err = api.Ready(t.Context())
		return err == nil && doc.Records.Status == status
	}, patience, 20*time.Millisecond, "the records were never %s", status)
	return doc.Records
}

// presenceGoesOn checks that somebody can come, be seen, and go.
func presenceGoesOn(t *testing.T, s *server.Server, user string) {
	t.Helper()
	third := watch(t, s)
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir}})
	third.until(t, joined(user))
	require.NoError(t, link.Leave(t.Context(), weir))
	third.until(t, left(user))
	require.NoError(t, link.Bye(t.Context()))
}

func entriesOf(t *testing.T, api client.API, user string) (kinds []string) {
	t.Helper()
	page, err := api.Journal(t.Context(), client.JournalQuery{Users: []string{user}, Limit: 1000})
	require.NoError(t, err)
	for _, e := range page.Entries {
		kinds = append(kinds, e.Kind)
	}
	return kinds
}

var comingAndGoing = []string{"session.opened", "member.joined", "status.changed", "member.left", "status.changed", "session.ended"}

func TestAFullDiskHoldsNobodyUp(t *testing.T) {
	dir := smallDisk(t, "2m")
	s := startWith(t, server.Config{Data: dir})
	api := client.API{Server: s.URL(), Key: key}
	onRecord(t, api, "ok")
	filler, err := os.Create(filepath.Join(dir, "filler"))
	require.NoError(t, err)
	for err == nil {
		_, err = filler.Write(make([]byte, 4096))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	presenceGoesOn(t, s, "ilse")
	health := onRecord(t, api, "failing")
	require.Contains(t, health.Error, "full")
	presenceGoesOn(t, s, "tobin")
	// What must outlast the service is refused.
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Rooms: []string{weir}})
	var problem *wire.Problem
	require.ErrorAs(t, link.SetStatus(t.Context(), "busy", "", time.Time{}), &problem)
	require.Equal(t, "not-recorded", problem.Code)
	_, err = api.PutPerson(t.Context(), wire.Profile{User: "corin"})
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "not-recorded", problem.Code)

	_, err = api.AddKey(t.Context(), wire.NewKey{Role: "read"})
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "not-recorded", problem.Code)

	require.NoError(t, filler.Close())
	require.NoError(t, os.Remove(filler.Name()))
	onRecord(t, api, "ok")
	require.ElementsMatch(t, comingAndGoing, entriesOf(t, api, "ilse"), "nothing was lost")
	require.ElementsMatch(t, comingAndGoing, entriesOf(t, api, "tobin"))
	person, err := api.Person(t.Context(), "hanne")
	require.NoError(t, err)
	require.Equal(t, "busy", person.Set, "what was set is kept after all")
}

func TestAFileThatCannotBeWrittenHoldsNobodyUp(t *testing.T) {
	dir := smallDisk(t, "4m")
	config := server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dir}
	first, err := server.Start(config)
	require.NoError(t, err)
	api := client.API{Server: first.URL(), Key: key}
	made, err := api.AddKey(t.Context(), wire.NewKey{Name: "billing", Role: "read"})
	require.NoError(t, err)
	require.NoError(t, first.Stop())
	require.NoError(t, syscall.Mount("", dir, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))

	s := startWith(t, server.Config{Data: dir})
	api = client.API{Server: s.URL(), Key: made.Key}
	_, err = api.Rooms(t.Context(), "**", "", 10)
	require.NoError(t, err, "keys are read")
	presenceGoesOn(t, s, "ilse")
	onRecord(t, api, "failing")
	require.NoError(t, syscall.Mount("", dir, "", syscall.MS_REMOUNT, ""))
	onRecord(t, api, "ok")
	require.ElementsMatch(t, comingAndGoing, entriesOf(t, api, "ilse"))
}

// TestALockedFileHoldsNobodyUp locks the file from another program for longer than the writer
// waits.
func TestALockedFileHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := startWith(t, server.Config{Data: dir})
	api := client.API{Server: s.URL(), Key: key}
	onRecord(t, api, "ok")
	release := holdRecords(t, dir)
	presenceGoesOn(t, s, "ilse")
	require.Contains(t, onRecord(t, api, "failing").Error, "locked")
	release()
	onRecord(t, api, "ok")
	require.ElementsMatch(t, comingAndGoing, entriesOf(t, api, "ilse"))
}

// TestABrokenFileIsTold checks the error at the start, with the remedy.
func TestABrokenFileIsTold(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "tovik.db")
	require.NoError(t, os.WriteFile(path, []byte("this is no database, whatever it is called; "+string(make([]byte, 4096))), 0o600))
	_, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dir})
	require.ErrorContains(t, err, "tovik restore")
	require.NoError(t, os.Remove(path))
}
