package gateway

import (
	"bytes"
	"maps"
	"slices"
	"strconv"
	"strings"

	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// requestTypes lists the types that a client may send.
var requestTypes = strings.Join(slices.Sorted(maps.Keys(wire.RequestFields)), ", ") + ", " + wire.TypeHello

// frame is a frame of a client, with what all frames have in common.
type frame struct {
	object strictjson.Object
	id     wire.ID // nil without one
	name   string  // its type
}

// bare has the frames with a type and nothing else, by their usual text. Idle links send little
// else than beats, so reading one should allocate nothing.
var bare = func() map[string]frame {
	frames := map[string]frame{}
	for name := range wire.RequestFields {
		text := `{"type":"` + name + `"}`
		if f, err := parseFrame([]byte(text)); err == nil {
			frames[text] = f
		}
	}
	return frames
}()

// readFrame reads a frame. Its error is a problem; the frame then has its id, if that could be
// read.
func readFrame(data []byte) (frame, error) {
	if f, ok := bare[string(data)]; ok {
		return f, nil
	}
	return parseFrame(data)
}

func parseFrame(data []byte) (f frame, err error) {
	f.object, err = strictjson.Scan(data)
	f.id = repeatable(f.object)
	if err != nil {
		return f, err
	}
	if given := f.object.Get("id"); given != nil && f.id == nil && given.Kind() != 'n' {
		return f, problem.BadField("id", string(given), "the id of a request cannot be used", "a string of at most 64 bytes or a whole number")
	}
	f.name, err = f.object.String("type")
	switch {
	case err != nil:
		return f, err
	case f.name == "":
		return f, &wire.Problem{Code: wire.CodeNoType, Field: "type", Detail: "the frame has no type", Allowed: requestTypes}
	case f.name != wire.TypeHello && wire.RequestFields[f.name] == nil:
		return f, &wire.Problem{Code: wire.CodeUnknownType, Field: "type", Value: wire.Shorten(f.name),
			Detail: "unknown type of request", Allowed: requestTypes}
	}
	return f, nil
}

// inOrder checks that hello comes first, and once.
func (f frame) inOrder(greeted bool) error {
	hello := f.name == wire.TypeHello
	switch {
	case !greeted && !hello:
		return &wire.Problem{Code: wire.CodeHelloFirst, Field: "type", Value: f.name,
			Detail: "the first frame of a link must be hello", Allowed: wire.TypeHello}
	case greeted && hello:
		return &wire.Problem{Code: wire.CodeSecondHello, Field: "type", Value: wire.TypeHello,
			Detail: "this link has said hello already", Allowed: "one hello on each link"}
	}
	return nil
}

func (f frame) hello() (wire.Hello, error) {
	h := wire.Hello{ID: f.id}
	err := f.object.Into(&h)
	return h, err
}

func (f frame) request() (wire.Request, error) {
	if len(f.object) == 1 { // its type
		return wire.Request{Type: f.name}, nil
	}
	return f.decode()
}

func (f frame) decode() (wire.Request, error) {
	r := wire.Request{Type: f.name}
	err := f.object.Into(&r, wire.RequestFields[f.name]...)
	r.ID = f.id
	return r, err
}

// repeatable returns the id of a request if it is a short string or a whole number, otherwise
// nil.
func repeatable(object strictjson.Object) wire.ID {
	id := object.Get("id")
	switch {
	case len(id) == 0 || len(id) > 66:
		return nil
	case id.Kind() == '"':
	default:
		if _, err := strconv.ParseInt(string(id), 10, 64); err != nil {
			return nil
		}
	}
	return bytes.Clone(id)
}

func wrongVersion(version int) error {
	return &wire.Problem{Code: wire.CodeWrongVersion, Field: "version", Value: strconv.Itoa(version),
		Detail: "unsupported protocol version", Allowed: strconv.Itoa(wire.Version)}
}
