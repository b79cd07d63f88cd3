// Package coding gives messages and records of a cluster their form on the bus and in the log: CBOR
// (RFC 8949), in which a value of an interface has a tag that names its type.
package coding

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"time"

	"github.com/fxamacker/cbor/v2"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// firstTag is the tag of the first type. No standard uses the tags from here on.
const firstTag = 4_700_000

// types are the types of values of interfaces. Their tags follow from the order: a new type goes to the
// end, and nil takes the place of a type that has gone.
var types = []any{
	cluster.Heartbeat{}, cluster.Echo{}, cluster.TableChanged{}, toOwner{}, fromOwner{},
	request{}, say{}, cluster.GiveUp{}, report{}, cluster.Follow{}, cluster.Unfollow{}, cluster.Pass{}, cluster.Want{},
	answer{}, cluster.WantReport{}, order{}, cluster.Deliver{}, cluster.Rooms{}, state{}, cluster.News{},
	engine.Batch{}, engine.Topic{}, engine.Typists{}, engine.Asks{}, engine.Sight{},
	presence.Hello{}, presence.Withdraw{}, presence.Join{}, presence.Leave{}, presence.Beat{}, presence.Activity{}, presence.Idle{}, presence.PageHidden{},
	presence.Typing{}, presence.Sent{}, presence.Renew{}, presence.BeatWritten{}, presence.Bye{}, presence.Closing{}, presence.ClosingBeacon{}, presence.ByeNote{},
	presence.LinkLost{}, presence.SetStatus{}, presence.Hide{}, presence.SignOut{}, presence.EndSession{}, presence.Remove{}, presence.Refuse{}, presence.Erase{},
	presence.Declare{}, presence.SetPolicy{}, presence.Doing{}, presence.AnswerAsk{}, presence.DecideAsk{}, presence.Invite{}, presence.InviteFor{}, presence.Accept{},
	presence.Decline{}, presence.TakeBack{}, presence.EndInvitation{}, presence.GrantPass{}, presence.RevokePass{},
	presence.AskBeat{}, presence.Cut{}, presence.TakenOut{}, presence.OwnChanged{}, presence.WarnExpiry{}, presence.AskAnswered{}, presence.PassEnded{},
	presence.InvitationAnswered{}, presence.InvitationsChanged{},
	records.Rows{}, records.Change{}, cluster.Prepared{},
}

var (
	writing = cbor.EncOptions{Sort: cbor.SortCoreDeterministic, Time: cbor.TimeRFC3339Nano}
	reading = cbor.DecOptions{UTF8: cbor.UTF8DecodeInvalid, MaxArrayElements: math.MaxInt32, MaxMapPairs: math.MaxInt32, MaxNestedLevels: 64, TimeTag: cbor.DecTagOptional}

	tags   = tagged()
	encode = must(writing.EncModeWithSharedTags(tags))
	decode = must(reading.DecModeWithSharedTags(tags))
)

func tagged() cbor.TagSet {
	tags := cbor.NewTagSet()
	for i, t := range types {
		if t == nil {
			continue
		}
		if err := tags.Add(cbor.TagOptions{EncTag: cbor.EncTagRequired, DecTag: cbor.DecTagRequired}, reflect.TypeOf(t), uint64(firstTag+i)); err != nil {
			panic(err)
		}
	}
	return tags
}

func must[T any](is T, err error) T {
	if err != nil {
		panic(err)
	}
	return is
}

// untagged is a list of values without tags. Looking for the tag of each part of each value would take longer than
// writing it.
type untagged[T any] []T

var encodeUntagged, decodeUntagged = must(writing.EncMode()), must(reading.DecMode())

// MarshalCBOR implements [cbor.Marshaler].
func (u untagged[T]) MarshalCBOR() ([]byte, error) { return encodeUntagged.Marshal([]T(u)) }

// UnmarshalCBOR implements [cbor.Unmarshaler].
func (u *untagged[T]) UnmarshalCBOR(text []byte) error {
	return decodeUntagged.Unmarshal(text, (*[]T)(u))
}

// request is a [cluster.Request] whose question has its arguments in their form.
type request struct {
	Attempt  uint64
	Input    any
	Change   any
	Question *question
}

type question struct {
	Method string
	Args   []cbor.RawMessage
}

// say and order have an any in the place of an interface, so that a value comes back as one.
type (
	say   struct{ Input any }
	order struct{ Effect any }
)

// answer is a [cluster.Answer] whose values and error are in their form.
type answer struct {
	Attempt uint64
	Reply   presence.Reply
	Method  string // of the question
	Values  []cbor.RawMessage
	Err     *failure
}

// failure is an error: a refusal, one that is known by name, or any other.
type failure struct {
	Refusal *presence.Refusal
	Text    string
}

// known are the errors that their receivers tell apart.
var known = []error{cluster.ErrNotReady, cluster.ErrNoRealm}

func failureOf(err error) *failure {
	if err == nil {
		return nil
	}
	var refusal *presence.Refusal
	if errors.As(err, &refusal) {
		return &failure{Refusal: refusal}
	}
	return &failure{Text: err.Error()}
}

func (f *failure) err() error {
	switch {
	case f == nil:
		return nil
	case f.Refusal != nil:
		return f.Refusal
	}
	for _, err := range known {
		if err.Error() == f.Text {
			return err
		}
	}
	return errors.New(f.Text)
}

// Envelope returns the form of a parcel.
func Envelope(e cluster.Envelope) ([]byte, error) {
	form := envelope{From: e.From, Sender: e.Sender, To: e.To, Last: e.Last, Read: e.Read}
	for _, m := range e.Messages {
		packed, err := pack(m)
		if err != nil {
			return nil, err
		}
		form.Messages = append(form.Messages, packed)
	}
	return encode.Marshal(form)
}

// ReadEnvelope reads the form of a parcel.
func ReadEnvelope(text []byte) (e cluster.Envelope, err error) {
	var form envelope
	if err := decode.Unmarshal(text, &form); err != nil {
		return e, fmt.Errorf("a parcel cannot be read: %w", err)
	}
	e = cluster.Envelope{From: form.From, Sender: form.Sender, To: form.To, Last: form.Last, Read: form.Read}
	for _, packed := range form.Messages {
		m, err := unpack(packed)
		if err != nil {
			return e, fmt.Errorf("a message cannot be read: %w", err)
		}
		e.Messages = append(e.Messages, m)
	}
	return e, nil
}

type envelope struct {
	From     cluster.Name        `cbor:"f"`
	Sender   cluster.Incarnation `cbor:"s"`
	To       cluster.Incarnation `cbor:"t"`
	Last     uint64              `cbor:"l"`
	Read     uint64              `cbor:"r"`
	Messages []any               `cbor:"m"`
}

// toOwner and fromOwner have an any in the place of an interface that this package cannot implement.
type (
	toOwner struct {
		Realm cluster.Realm
		What  any
	}
	fromOwner struct {
		Realm cluster.Realm
		Epoch cluster.Epoch
		What  any
	}
)

// pack returns a message as it is written.
func pack(m cluster.Message) (any, error) {
	switch m := m.(type) {
	case cluster.ToOwner:
		form := toOwner{m.Realm, m.What}
		switch up := m.What.(type) {
		case cluster.Say:
			form.What = say{up.Input}
		case cluster.Report:
			form.What = reportOf(up)
		case cluster.Request:
			is := request{up.Attempt, up.Input, up.Change, nil}
			if q := up.Question; q != nil {
				is.Question = &question{Method: q.Method}
				var err error
				if is.Question.Args, err = raw(q.Args); err != nil {
					return nil, err
				}
			}
			form.What = is
		}
		return form, nil
	case cluster.FromOwner:
		form := fromOwner{m.Realm, m.Epoch, m.What}
		switch down := m.What.(type) {
		case cluster.Order:
			form.What = order{down.Effect}
		case cluster.State:
			form.What = stateOf(down)
		case cluster.Answer:
			is := answer{Attempt: down.Attempt, Reply: down.Reply, Method: down.Method, Err: failureOf(down.Err)}
			var err error
			if is.Values, err = raw(down.Values); err != nil {
				return nil, err
			}
			form.What = is
		}
		return form, nil
	}
	return m, nil
}

func unpack(packed any) (cluster.Message, error) {
	switch form := packed.(type) {
	case toOwner:
		switch is := form.What.(type) {
		case say:
			in, ok := is.Input.(presence.Input)
			if !ok {
				return nil, fmt.Errorf("an input %T", is.Input)
			}
			form.What = cluster.Say{Input: in}
		case report:
			form.What = is.read()
		case request:
			up := cluster.Request{Attempt: is.Attempt, Change: is.Change}
			if is.Input != nil {
				in, ok := is.Input.(presence.Input)
				if !ok {
					return nil, fmt.Errorf("an input %T", is.Input)
				}
				up.Input = in
			}
			if q := is.Question; q != nil {
				up.Question = &cluster.Question{Method: q.Method}
				var err error
				if up.Question.Args, err = values(q.Method, q.Args, reflect.Type.In, 1); err != nil {
					return nil, err
				}
			}
			form.What = up
		}
		up, ok := form.What.(cluster.Up)
		if !ok {
			return nil, fmt.Errorf("a %T for an owner", form.What)
		}
		return cluster.ToOwner{Realm: form.Realm, What: up}, nil
	case fromOwner:
		switch is := form.What.(type) {
		case order:
			effect, ok := is.Effect.(presence.Effect)
			if !ok {
				return nil, fmt.Errorf("an effect %T", is.Effect)
			}
			form.What = cluster.Order{Effect: effect}
		case state:
			form.What = is.read()
		case answer:
			down := cluster.Answer{Attempt: is.Attempt, Reply: is.Reply, Method: is.Method, Err: is.Err.err()}
			var err error
			if down.Values, err = values(is.Method, is.Values, reflect.Type.Out, 0); err != nil {
				return nil, err
			}
			form.What = down
		case cluster.News:
			if b, ok := is.What.(engine.Batch); ok {
				is.What = &b
			}
			form.What = is
		}
		down, ok := form.What.(cluster.Down)
		if !ok {
			return nil, fmt.Errorf("a %T from an owner", form.What)
		}
		return cluster.FromOwner{Realm: form.Realm, Epoch: form.Epoch, What: down}, nil
	case cluster.Message:
		return form, nil
	}
	return nil, fmt.Errorf("a %T", packed)
}

// raw returns values in their form, of which the method of the question tells the types.
func raw(values []any) (list []cbor.RawMessage, err error) {
	for _, v := range values {
		if err, is := v.(error); is {
			v = failureOf(err)
		}
		text, err := encode.Marshal(v)
		if err != nil {
			return nil, err
		}
		list = append(list, text)
	}
	return list, nil
}

// values reads the arguments or results of a method of an engine.
func values(name string, list []cbor.RawMessage, of func(reflect.Type, int) reflect.Type, first int) (read []any, err error) {
	if len(list) == 0 {
		return nil, nil
	}
	method, ok := reflect.TypeFor[*engine.Engine]().MethodByName(name)
	if !ok {
		return nil, fmt.Errorf("an engine has no method %s", name)
	}
	for i, text := range list {
		t := of(method.Type, i+first)
		if t == reflect.TypeFor[error]() {
			var f *failure
			if err := decode.Unmarshal(text, &f); err != nil {
				return nil, err
			}
			if f == nil {
				read = append(read, nil)
			} else {
				read = append(read, f.err())
			}
			continue
		}
		v := reflect.New(t)
		if err := decode.Unmarshal(text, v.Interface()); err != nil {
			return nil, err
		}
		read = append(read, v.Elem().Interface())
	}
	return read, nil
}

// record is a [cluster.Record] in the log.
type record struct {
	ID      string                   `cbor:"i"`
	Format  cluster.Format           `cbor:"f"`
	Kind    cluster.Kind             `cbor:"k"`
	Realm   cluster.Realm            `cbor:"r,omitempty"`
	Name    string                   `cbor:"N,omitempty"`
	Epoch   cluster.Epoch            `cbor:"e,omitempty"`
	Node    cluster.Name             `cbor:"n"`
	Wall    int64                    `cbor:"w"`
	Time    time.Duration            `cbor:"t,omitempty"`
	Times   []cluster.RealmTime      `cbor:"T,omitempty"`
	Rows    any                      `cbor:"R,omitempty"`
	Changes []any                    `cbor:"c,omitempty"`
	Removed []presence.PersonRemoved `cbor:"d,omitempty"`
	Text    []byte                   `cbor:"-"`
}

// Record returns the form of a record. It is always the same for equal records.
func Record(r cluster.Record) ([]byte, error) { return encode.Marshal(record(r)) }

// ReadRecord reads the form of a record, which the record keeps as its text. If its format is newer than knows,
// the record has only its id, format and kind.
func ReadRecord(text []byte, knows cluster.Format) (cluster.Record, error) {
	var form struct { // looking for the tag of each part of each row would take as long as reading it
		record
		Rows    *records.Rows     `cbor:"R,omitempty"`
		Changes []cbor.RawMessage `cbor:"c,omitempty"`
	}
	wrong := decodeUntagged.Unmarshal(text, &form)
	r := cluster.Record(form.record)
	for i := 0; i < len(form.Changes) && wrong == nil; i++ {
		r.Changes = append(r.Changes, nil)
		wrong = decode.Unmarshal(form.Changes[i], &r.Changes[i])
	}
	if wrong != nil || r.Format > knows { // a newer format may have anything else
		var head struct {
			ID     string         `cbor:"i"`
			Format cluster.Format `cbor:"f"`
			Kind   cluster.Kind   `cbor:"k"`
		}
		if err := decode.Unmarshal(text, &head); err != nil {
			return cluster.Record{}, fmt.Errorf("a record cannot be read: %w", err)
		}
		if head.Format > knows {
			return cluster.Record{ID: head.ID, Format: head.Format, Kind: head.Kind}, nil
		}
		return cluster.Record{}, fmt.Errorf("the record %s cannot be read: %w", head.ID, wrong)
	}
	if form.Rows != nil {
		r.Rows = form.Rows
	}
	r.Text = text
	return r, nil
}

// Again returns records that share nothing with those given, as if each node had read them from the log.
func Again(list []cluster.Record) ([]cluster.Record, error) {
	again := make([]cluster.Record, len(list))
	for i, r := range list {
		text, err := Record(r)
		if err == nil {
			again[i], err = ReadRecord(text, ^cluster.Format(0))
		}
		if err != nil {
			return nil, err
		}
	}
	return again, nil
}
