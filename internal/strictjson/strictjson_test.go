package strictjson_test

import (
	"encoding/json"
	"testing"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

type request struct {
	Limit  int               `json:"limit"`
	All    bool              `json:"all"`
	Room   string            `json:"room"`
	Rooms  []string          `json:"rooms"`
	On     *bool             `json:"on"`
	Number uint64            `json:"number"`
	Until  *time.Time        `json:"until"`
	Data   json.RawMessage   `json:"data"`
	Revs   map[string]string `json:"revs"`
	Watch  []wire.Watch      `json:"watch"`
}

func TestWhatIsWrongIsNamedWithItsValueAndWhatIsAllowed(t *testing.T) {
	for text, want := range map[string]wire.Problem{
		`{"room":7}`:                           {Code: "bad-field", Field: "room", Value: "7", Allowed: "a string"},
		`{"rooms":"a"}`:                        {Code: "bad-field", Field: "rooms", Value: `"a"`, Allowed: "a list, each item a string"},
		`{"rooms":["a",{"b":1}]}`:              {Code: "bad-field", Field: "rooms.1", Value: `{"b":1}`, Allowed: "a string"},
		`{"on":1}`:                             {Code: "bad-field", Field: "on", Value: "1", Allowed: "true or false"},
		`{"number":-1}`:                        {Code: "bad-field", Field: "number", Value: "-1", Allowed: "a whole number from 0 on"},
		`{"number":1e99}`:                      {Code: "bad-field", Field: "number", Value: "1e99", Allowed: "a whole number from 0 on"},
		`{"until":"soon"}`:                     {Code: "bad-field", Field: "until", Value: `"soon"`, Allowed: "a time as in RFC 3339: 2026-11-23T03:00:00Z"},
		`{"until":7}`:                          {Code: "bad-field", Field: "until", Value: "7", Allowed: "a time as in RFC 3339: 2026-11-23T03:00:00Z"},
		`{"revs":[]}`:                          {Code: "bad-field", Field: "revs", Value: "[]", Allowed: "a JSON object"},
		`{"watch":[{"room":"a"},{"room":[]}]}`: {Code: "bad-field", Field: "watch.1.room", Value: "[]", Allowed: "a string"},
		`{"room":"a","room":"b"}`:              {Code: "bad-field", Field: "room", Allowed: "each name once"},
		`{"x":{"y":1,"y":2}}`:                  {Code: "bad-field", Field: "x.y", Allowed: "each name once"},
		`{"room":"a"} {}`:                      {Code: "not-json"},
		`[1]`:                                  {Code: "not-json"},
		`null`:                                 {Code: "not-json"},
		`"text"`:                               {Code: "not-json"},
		``:                                     {Code: "not-json"},
		`{"room":"\xff"}`:                      {Code: "not-json"},
		"{\"room\":\"\xff\"}":                  {Code: "not-json"},
		`{"room":"a"`:                          {Code: "not-json"},
	} {
		err := strictjson.Read([]byte(text), new(request))
		var problem *wire.Problem
		require.ErrorAs(t, err, &problem, text)
		require.NotEmpty(t, problem.Detail, text)
		require.NotEmpty(t, problem.Allowed, text)
		if want.Code == "not-json" {
			want.Allowed = problem.Allowed
		}
		want.Detail = problem.Detail
		require.Equal(t, want, *problem, text)
	}
}

func TestNamesAreExactAndUnknownMembersMayHoldAnything(t *testing.T) {
	var r request
	require.NoError(t, strictjson.Read([]byte(`{"ROOM":"no","Room":7,"room":"yes","\u0072ooms":["a"],"other":[{"deep":null}],"data":{"a":[1]},"on":null,"watch":[{"room":"w","DETAIL":3}]}`), &r))
	require.Equal(t, "yes", r.Room)
	require.Equal(t, []string{"a"}, r.Rooms)
	require.JSONEq(t, `{"a":[1]}`, string(r.Data))
	require.Nil(t, r.On)
	require.Equal(t, []wire.Watch{{Room: "w"}}, r.Watch)
}

func TestOnlyTheFieldsOfARequestAreRead(t *testing.T) {
	object, err := strictjson.Scan([]byte(`{"room":"a","number":"not one","on":true}`))
	require.NoError(t, err)
	var r request
	require.NoError(t, object.Into(&r, "room", "on"))
	require.Equal(t, "a", r.Room)
	require.True(t, *r.On)
	require.Error(t, object.Into(&r, "number"))
}

func TestAFaultLeavesWhatCameBeforeIt(t *testing.T) {
	object, err := strictjson.Scan([]byte(`{"type":"join","id":41,"room":}`))
	require.Error(t, err)
	require.Equal(t, "41", string(object.Get("id")))
}

// The output of the general encoder is read the same, for all strings.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := request{
			Room: rapid.String().Draw(t, "room"), Number: rapid.Uint64().Draw(t, "number"),
			Rooms: rapid.SliceOf(rapid.String()).Draw(t, "rooms"), Revs: rapid.MapOf(rapid.String(), rapid.String()).Draw(t, "revs"),
		}
		text, err := json.Marshal(want)
		require.NoError(t, err)
		var got request
		require.NoError(t, strictjson.Read(text, &got))
		again, err := json.Marshal(got)
		require.NoError(t, err)
		require.JSONEq(t, string(text), string(again))
	})
}

// Plain values are read as in the general way.
func FuzzPlain(f *testing.F) {
	for _, value := range []string{`""`, `"a"`, `"\u0061"`, `"\""`, `[]`, `[ ]`, `["a" , "b"]`, `["a",null]`, `["a,b]","c"]`, `[["a"]]`, `["\\"]`, `{"a":"b"}`,
		`true`, `false`, `null`, `0`, `-0`, `-1`, `7`, `1.5`, `1e3`, `123456789`, `1234567890`, `99999999999999999999`, " 7 "} {
		f.Add(value)
	}
	f.Fuzz(func(t *testing.T, value string) {
		for _, name := range []string{"room", "rooms", "limit", "all"} {
			text := []byte(`{"` + name + `":` + value + `}`)
			object, err := strictjson.Scan(text)
			if err != nil {
				return
			}
			var got, want request
			err = object.Into(&got)
			require.Equal(t, jsonv2.Unmarshal(text, &want, jsonv2.MatchCaseInsensitiveNames(false)) == nil, err == nil, "%s: %v", text, err)
			if err == nil {
				require.Equal(t, want, got, "%s", text)
			}
		}
	})
}
