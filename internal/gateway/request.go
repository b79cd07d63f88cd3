package gateway

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/fasthttp/websocket"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// maxWatches is how many rooms and patterns one link may watch.
const maxWatches = 64

// handlers of the requests that come after hello, by type.
var handlers = map[string]func(*link, wire.Request) error{
	wire.TypeJoin:     (*link).join,
	wire.TypeLeave:    (*link).leave,
	wire.TypeWatch:    (*link).watch,
	wire.TypeUnwatch:  (*link).unwatch,
	wire.TypeBeat:     (*link).beat,
	wire.TypeActivity: (*link).activity,
	wire.TypeIdle:     (*link).idle,
	wire.TypePage:     (*link).page,
	wire.TypeRenew:    (*link).renew,
	wire.TypeBye:      (*link).bye,
	wire.TypeClosing:  (*link).closingFrame,
}

var requestTypes = func() string {
	types := []string{wire.TypeHello}
	for name := range handlers {
		types = append(types, name)
	}
	slices.Sort(types)
	return strings.Join(types, ", ")
}()

// receive carries out one frame of the client, or says why not.
func (l *link) receive(data []byte) {
	var head struct {
		Type *string `json:"type"`
		ID   wire.ID `json:"id"`
	}
	if err := decode(data, &head); err != nil {
		l.refuse(nil, err)
		return
	}
	if !validID(head.ID) {
		l.refuse(nil, &wire.Problem{Code: wire.CodeBadField, Field: "id", Value: wire.Shorten(string(head.ID)),
			Detail: "the id of a request cannot be used", Allowed: "a string of at most 64 bytes or a whole number"})
		return
	}
	if err := l.dispatch(head.Type, head.ID, data); err != nil {
		l.refuse(head.ID, err)
	}
}

func (l *link) dispatch(name *string, id wire.ID, data []byte) error {
	if name == nil {
		return &wire.Problem{Code: wire.CodeNoType, Field: "type", Detail: "the frame has no type", Allowed: requestTypes}
	}
	if *name == wire.TypeHello {
		return l.hello(id, data)
	}
	handle, ok := handlers[*name]
	switch {
	case !ok:
		return &wire.Problem{Code: wire.CodeUnknownType, Field: "type", Value: wire.Shorten(*name),
			Detail: "no request has this type", Allowed: requestTypes}
	case !l.greeted:
		return &wire.Problem{Code: wire.CodeHelloFirst, Field: "type", Value: *name,
			Detail: "the first frame of a link must be hello", Allowed: wire.TypeHello}
	}
	var request wire.Request
	if err := decode(data, &request); err != nil {
		return err
	}
	return handle(l, request)
}

// session returns the id of the link as the core knows it.
func (l *link) session() (presence.LinkID, error) {
	if l.carries == (presence.LinkID{}) {
		return presence.LinkID{}, &wire.Problem{Code: wire.CodeWatchOnly,
			Detail: "this link has an operator's key and no session", Allowed: "watch, unwatch, beat, bye"}
	}
	return l.carries, nil
}

func (l *link) join(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	room, err := l.guest.room(r.Room)
	if err != nil {
		return err
	}
	if _, err := l.gateway.do(presence.Join{From: from, Room: room}); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil, func() {
		l.receiver.Follow(delivery.Joined, presence.Pattern(room), delivery.AtMembers)
	})
	return nil
}

func (l *link) leave(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return err
	}
	if _, err := l.gateway.do(presence.Leave{From: from, Room: room}); err != nil {
		return err
	}
	l.answer(r.ID, nil, func() { l.receiver.Unfollow(delivery.Joined, presence.Pattern(room)) }, nil)
	return nil
}

func (l *link) watch(r wire.Request) error {
	watches, err := l.guest.watches([]wire.Watch{{Room: r.Room, Detail: r.Detail}})
	if err != nil {
		return err
	}
	l.heard()
	l.answer(r.ID, nil, nil, func() { l.follow(watches) })
	return nil
}

func (l *link) unwatch(r wire.Request) error {
	pattern, err := presence.ParsePattern(r.Room)
	if err != nil {
		return err
	}
	if !l.guest.watching[pattern] {
		return &wire.Problem{Code: wire.CodeNotWatching, Field: "room", Value: r.Room,
			Detail: "the link does not watch this", Allowed: "a room or pattern as a watch named it"}
	}
	delete(l.guest.watching, pattern)
	l.heard()
	l.answer(r.ID, nil, func() { l.receiver.Unfollow(delivery.Watched, pattern) }, nil)
	return nil
}

func (l *link) follow(watches []watch) {
	for _, w := range watches {
		l.receiver.Follow(delivery.Watched, w.pattern, w.detail)
	}
}

// beat is the answer to a beat request, and gets none itself unless it has an id.
func (l *link) beat(r wire.Request) error {
	if from, err := l.session(); err == nil {
		if _, err := l.gateway.do(presence.Beat{From: from}); err != nil {
			return err
		}
	}
	if r.ID != nil {
		l.answer(r.ID, nil, nil, nil)
	}
	return nil
}

// tell gives the core what a request says of the session, and answers it.
func (l *link) tell(r wire.Request, in func(presence.LinkID) presence.Input) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	if _, err := l.gateway.do(in(from)); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil, nil)
	return nil
}

func (l *link) activity(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input { return presence.Activity{From: from} })
}

func (l *link) idle(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input { return presence.Idle{From: from} })
}

func (l *link) page(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input { return presence.PageHidden{From: from, Hidden: r.Hidden} })
}

// renew takes a newer token of the same person. What it no longer grants is not
// taken away before the next hello.
func (l *link) renew(r wire.Request) error {
	if l.guest.operator {
		_, err := l.session()
		return err
	}
	person, err := l.gateway.tokens.Verify(r.Token)
	if err != nil {
		return err
	}
	if person.User != l.guest.person.User {
		return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the token is another person's",
			Allowed: "a newer token of the person of this link"}
	}
	err = l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.Renew{From: from, Profile: person.Profile, Issued: person.Issued.UnixMilli(), Expires: person.Expires.UnixMilli()}
	})
	if err == nil {
		l.guest.person = person
	}
	return err
}

// heard tells the core of a sign of life that is no input of its own. That the
// link may be an older one by now is seen to by the cut that is on its way.
func (l *link) heard() {
	if from, err := l.session(); err == nil {
		_, _ = l.gateway.do(presence.Beat{From: from})
	}
}

func (l *link) bye(r wire.Request) error {
	if from, err := l.session(); err == nil {
		if _, err := l.gateway.do(presence.Bye{From: from}); err != nil {
			return err
		}
	}
	l.answer(r.ID, nil, nil, nil)
	l.close(websocket.CloseNormalClosure, wire.TypeBye)
	return nil
}

func (l *link) closingFrame(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	if _, err := l.gateway.do(presence.Closing{From: from}); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil, nil)
	l.close(wire.CloseClosing, wire.TypeClosing)
	return nil
}

// decode reads one JSON object. Its error is a problem that names what is wrong.
func decode(data []byte, into any) error {
	err := json.Unmarshal(data, into)
	var mismatch *json.UnmarshalTypeError
	switch {
	case err == nil && !bytes.HasPrefix(bytes.TrimLeft(data, " \t\r\n"), []byte("{")):
		return notJSON("the frame is JSON, but no object")
	case err == nil:
		return nil
	case errors.As(err, &mismatch) && mismatch.Field == "":
		return notJSON(fmt.Sprintf("the frame is a JSON %s, not an object", mismatch.Value))
	case errors.As(err, &mismatch):
		return &wire.Problem{Code: wire.CodeBadField, Field: mismatch.Field, Value: mismatch.Value,
			Detail: "the field has a value of the wrong kind", Allowed: "a " + kindName(mismatch.Type.Kind().String())}
	}
	return notJSON("the frame is not JSON: " + err.Error())
}

func notJSON(detail string) error {
	return &wire.Problem{Code: wire.CodeNotJSON, Detail: detail, Allowed: "one JSON object"}
}

func kindName(kind string) string {
	switch kind {
	case "struct", "ptr":
		return "JSON object"
	case "slice":
		return "list"
	case "int":
		return "whole number"
	}
	return kind
}

// validID tells whether an id can be repeated: a short string or a whole number.
func validID(id wire.ID) bool {
	if len(id) == 0 {
		return true
	}
	if len(id) > 66 {
		return false
	}
	if id[0] == '"' {
		return true
	}
	var whole int64
	return json.Unmarshal(id, &whole) == nil && string(id) != "null"
}

// ProblemOf turns any error into what a client is told.
func ProblemOf(err error) *wire.Problem {
	var problem *wire.Problem
	var refusal *presence.Refusal
	switch {
	case errors.As(err, &problem):
		return problem
	case errors.As(err, &refusal):
		explanation, _ := wire.Explain(string(refusal.Code))
		return &wire.Problem{Code: string(refusal.Code), Detail: strings.ToLower(explanation.Title[:1]) + explanation.Title[1:],
			Field: refusal.Field, Value: wire.Shorten(refusal.Value), Allowed: refusal.Allowed}
	}
	return &wire.Problem{Code: wire.CodeInternal, Detail: "the service failed; its log says more"}
}
