package coding

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// TestEveryTypeHasATag looks for the types of messages, inputs and orders in the source, so that a new one
// is not forgotten.
func TestEveryTypeHasATag(t *testing.T) {
	var have []string
	for _, is := range types {
		have = append(have, reflect.TypeOf(is).Name())
	}
	for dir, mark := range map[string]string{"../../presence": `input|effect`, "..": `message|up|down`} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		found := 0
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, match := range regexp.MustCompile(`(?m)^func \((\w+)\) (?:`+mark+`)\(\)`).FindAllStringSubmatch(string(text), -1) {
				found++
				name := match[1]
				switch { // these have forms of this package, or never leave a node
				case slices.Contains([]string{"Request", "Say", "Report", "ToOwner", "FromOwner", "Answer", "Order", "State"}, name):
				case slices.Contains([]string{"MemberChanged", "TypingChanged", "PersonChanged", "Settled", "SessionOpened", "SessionInGrace", "SessionResumed", "SessionEnded",
					"SessionRestored", "CueGiven", "QuotaNear", "QuotaReached", "SessionIdle", "PersonRemoved", "Suspended", "AskOpened", "InvitationOpened"}, name): // for the records, not for links
				default:
					require.Contains(t, have, name, "of %s", file)
				}
			}
		}
		require.Greater(t, found, 15)
	}
}

// TestWhatDiffersInGoDiffersInTheForm has the values that other forms confuse: nothing and an empty list, and
// errors that are told apart.
func TestWhatDiffersInGoDiffersInTheForm(t *testing.T) {
	back := func(m cluster.Message) cluster.Message {
		text, err := Envelope(cluster.Envelope{From: "dipper", Messages: []cluster.Message{m}})
		require.NoError(t, err)
		e, err := ReadEnvelope(text)
		require.NoError(t, err)
		return e.Messages[0]
	}
	for _, grants := range [][]presence.Pattern{nil, {}, {"basin.*"}} {
		m := cluster.ToOwner{Realm: 7, What: cluster.Request{Input: presence.Hello{Grants: grants}}}
		require.Equal(t, m, back(m))
	}
	for _, err := range []error{nil, cluster.ErrNotReady, cluster.ErrNoRealm, &presence.Refusal{Code: presence.CodeRemoved, Field: "room", Value: "\xff"}, errors.New("another")} {
		m := back(cluster.FromOwner{What: cluster.Answer{Err: err}}).(cluster.FromOwner).What.(cluster.Answer)
		require.Equal(t, err, m.Err)
	}
}

// TestAReportSaysAllThatAnOwnerUses has facts with anything in each field.
func TestAReportSaysAllThatAnOwnerUses(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.Make[presence.Fact]().Draw(t, "fact")
		is := &f.Session
		is.Live, is.Leased, is.LastHeard, is.LastActive, is.Active, is.Silent, is.Lost, is.Ends, is.Reason = false, false, 0, 0, 0, 0, 0, 0, 0
		for i := range is.Rooms {
			is.Rooms[i].Ends, is.Rooms[i].Reason = 0, 0
		}
		comesBack(t, cluster.ToOwner{Realm: 7, What: cluster.Report{Read: 3, First: true, Last: true, Facts: []presence.Fact{f, {Unanswered: -1}}}})
		isWithoutTags(t, factOf(&f))
	})
}

func TestAListSaysAllOfItsMembers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String()
		m := presence.Member{User: presence.UserID(text.Draw(t, "user")), Profile: rapid.Make[presence.Profile]().Draw(t, "profile"),
			Appearance: rapid.Make[presence.Appearance]().Draw(t, "appearance"), Since: time.UnixMilli(rapid.Int64Range(0, 1<<41).Draw(t, "since")).UTC(),
			Sessions: rapid.Int().Draw(t, "sessions"), Doing: text.Draw(t, "doing"), Devices: presence.Devices(rapid.Byte().Draw(t, "devices"))}
		is := engine.Snapshot{Topic: rapid.Make[engine.Topic]().Draw(t, "topic"), Revision: rapid.Make[engine.Revision]().Draw(t, "revision"), Members: []presence.Member{m},
			Count: rapid.Make[presence.Count]().Draw(t, "count"), Exists: rapid.Bool().Draw(t, "exists")}
		comesBack(t, cluster.FromOwner{Realm: 7, Epoch: 3, What: cluster.State{Snapshot: is, Typists: []presence.UserID{m.User}, Asks: []presence.OpenAsk{rapid.Make[presence.OpenAsk]().Draw(t, "ask")}}})
		comesBack(t, cluster.FromOwner{Realm: 7, Epoch: 3, What: cluster.State{Snapshot: engine.Snapshot{Topic: is.Topic}}})
		isWithoutTags(t, memberOf(&m))
	})
}

// comesBack checks that a message is the same after it was written and read.
func comesBack(t require.TestingT, m cluster.Message) {
	text, err := Envelope(cluster.Envelope{Messages: []cluster.Message{m}})
	require.NoError(t, err)
	e, err := ReadEnvelope(text)
	require.NoError(t, err)
	require.Equal(t, []cluster.Message{m}, e.Messages)
}

// isWithoutTags checks that no part of a value has a tag: nodes of another version write and read it with tags.
func isWithoutTags[T any](t require.TestingT, value T) {
	tagged, err := encode.Marshal([]T{value})
	require.NoError(t, err)
	text, err := encode.Marshal(untagged[T]{value})
	require.NoError(t, err)
	require.Equal(t, tagged, text)
}

func TestARecordOfALaterFormatIsKnownByItsHead(t *testing.T) {
	text, err := encode.Marshal(map[string]any{"i": "record-1", "f": 2, "k": "format", "R": map[string]any{"of": "later"}, "e": "not a number"})
	require.NoError(t, err)
	r, err := ReadRecord(text, 1)
	require.NoError(t, err)
	require.Equal(t, cluster.Record{ID: "record-1", Format: 2, Kind: cluster.KindFormat}, r)
	_, err = ReadRecord(text, 2)
	require.ErrorContains(t, err, "record-1")
}

// FuzzReading gives the readers anything.
func FuzzReading(f *testing.F) {
	text, err := Envelope(cluster.Envelope{From: "dipper", Messages: []cluster.Message{cluster.Heartbeat{}, cluster.FromOwner{What: cluster.Answer{Method: "Count", Values: []any{presence.Count{}, true}}}}})
	require.NoError(f, err)
	f.Add(text)
	text, err = Record(cluster.Record{ID: "record-1", Kind: cluster.KindBatch})
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(_ *testing.T, text []byte) {
		_, _ = ReadEnvelope(text)
		_, _ = ReadRecord(text, cluster.Newest)
	})
}
