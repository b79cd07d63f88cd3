package transport

import "strconv"

// EventStream returns the server's side of an event stream (HTML standard, §9.2):
// each frame is one event, whose id is name, a point and a number that goes on from
// after. What the client sends is ignored.
func EventStream(name string, after uint64) Codec { return &eventStream{name: name, number: after} }

type eventStream struct {
	name   string
	number uint64
}

func (*eventStream) read(*Stream, []byte) error { return nil }

func (c *eventStream) appendFrame(to, payload []byte) []byte {
	c.number++
	to = append(append(to, "id: "...), c.name...)
	to = strconv.AppendUint(append(to, '.'), c.number, 10)
	to = append(append(to, "\ndata: "...), payload...)
	return append(to, "\n\n"...)
}

// still says that the stream is alive, to its client and to proxies on the way. It has no
// number, for it is nothing that could be missed.
func (*eventStream) still() []byte { return []byte("event: still\ndata: {}\n\n") }

// appendGoodbye tells the reason as an event of the type "closed", for a stream has
// no other way.
func (c *eventStream) appendGoodbye(to []byte, code int, reason string) []byte {
	to = strconv.AppendInt(append(to, "event: closed\ndata: {\"code\":"...), int64(code), 10)
	to = append(to, ",\"reason\":"...)
	return append(strconv.AppendQuote(to, reason), "}\n\n"...)
}
