package transport

import (
	"strconv"

	"tovik.example/tovik/internal/deflate"
)

// EventStream returns the server side of an event stream (HTML standard, §9.2). Each frame is an
// event with the id name.number, numbered from after+1. Input from the client is ignored.
func EventStream(name string, after uint64) Codec { return &eventStream{name: name, number: after} }

type eventStream struct {
	name   string
	number uint64
}

func (*eventStream) read(*Stream, []byte) error { return nil }

func (c *eventStream) appendFrame(to []byte, t deflate.Text) []byte {
	c.number++
	to = append(append(to, "id: "...), c.name...)
	to = strconv.AppendUint(append(to, '.'), c.number, 10)
	to = append(append(to, "\ndata: "...), t.Plain()...)
	return append(to, "\n\n"...)
}

// still is a sign of life for the client and for proxies. It has no number, because it need not
// be repeated.
func (*eventStream) still() []byte { return []byte("event: still\ndata: {}\n\n") }

// appendGoodbye appends the reason as an event of the type "closed", the only way for an event
// stream to say it.
func (c *eventStream) appendGoodbye(to []byte, code int, reason string) []byte {
	to = strconv.AppendInt(append(to, "event: closed\ndata: {\"code\":"...), int64(code), 10)
	to = append(to, ",\"reason\":"...)
	return append(strconv.AppendQuote(to, reason), "}\n\n"...)
}
