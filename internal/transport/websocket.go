package transport

import (
	"bytes"
	"errors"
	"io"
	"unicode/utf8"

	"github.com/gobwas/ws"
	"github.com/gobwas/ws/wsflate"

	"tovik.example/tovik/internal/deflate"
)

// Close codes of RFC 6455 §7.4.1.
const (
	CloseNormal         = 1000
	CloseGoingAway      = 1001
	CloseProtocolError  = 1002
	CloseNoCode         = 1005 // never sent: a goodbye without a code
	CloseNotUTF8        = 1007
	CloseTooLarge       = 1009
	CloseServiceRestart = 1012
	CloseTryAgainLater  = 1013
)

// WebSocket returns the server side of RFC 6455, for messages of up to limit bytes. With deflates,
// the handshake has agreed on compressed messages ([deflate.Accept]).
func WebSocket(limit int, deflates bool) Codec { return &webSocket{limit: limit, deflates: deflates} }

type webSocket struct {
	limit      int
	partial    []byte // the beginning of a frame; at most limit and a header
	message    []byte // the fragments of a message so far; at most limit
	text       bool   // of the fragmented message
	fragmented bool
	deflates   bool
	packed     wsflate.MessageState // of the message that comes
}

// read takes frames from the received data, which it may change.
func (c *webSocket) read(s *Stream, data []byte) error {
	if len(c.partial) > 0 {
		c.partial = append(c.partial, data...)
		data = c.partial
	}
	for len(data) > 0 {
		if s.Finishing() && !s.sawGoodbye(data) {
			data = nil // only the end matters now
			break
		}
		n, err := c.frame(s, data)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		data = data[n:]
	}
	if len(data) == 0 {
		c.partial = nil
	} else {
		c.partial = append(c.partial[:0], data...)
	}
	return nil
}

// sawGoodbye reports whether a close frame begins here.
func (s *Stream) sawGoodbye(data []byte) bool { return ws.OpCode(data[0]&0x0f) == ws.OpClose }

// frame takes one frame, and returns its length; 0 if it is not complete.
func (c *webSocket) frame(s *Stream, data []byte) (int, error) {
	r := bytes.NewReader(data)
	h, err := ws.ReadHeader(r)
	switch {
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
		return 0, nil
	case err != nil:
		s.handler.Broken(CloseProtocolError, err.Error())
		return len(data), nil
	}
	state := ws.StateServerSide
	if c.fragmented {
		state = state.Set(ws.StateFragmented)
	}
	if c.deflates {
		h, err = c.packed.UnsetBits(h)
	}
	if err := errors.Join(err, ws.CheckHeader(h, state)); err != nil {
		s.handler.Broken(CloseProtocolError, err.Error())
		return len(data), nil
	}
	if h.Length > int64(c.limit-len(c.message)) {
		s.handler.Broken(CloseTooLarge, "the message is too large")
		return len(data), nil
	}
	head := len(data) - r.Len()
	if int64(r.Len()) < h.Length {
		return 0, nil
	}
	length := head + int(h.Length)
	payload := data[head:length]
	ws.Cipher(payload, h.Mask, 0)
	if h.OpCode.IsControl() {
		return length, c.control(s, h, payload)
	}
	c.data(s, h, payload)
	return length, nil
}

func (c *webSocket) data(s *Stream, h ws.Header, payload []byte) {
	text := h.OpCode == ws.OpText
	if h.OpCode == ws.OpContinuation {
		text = c.text
	}
	if c.fragmented || !h.Fin {
		c.message = append(c.message, payload...)
		c.text, c.fragmented = text, !h.Fin
		if !h.Fin {
			return
		}
		payload, c.message = c.message, nil
	}
	if c.packed.IsCompressed() {
		unpacked, err := deflate.Unpack(payload, c.limit)
		switch {
		case errors.Is(err, deflate.ErrTooLarge):
			s.handler.Broken(CloseTooLarge, err.Error())
			return
		case err != nil:
			s.handler.Broken(CloseNotUTF8, "the message is not compressed properly")
			return
		}
		payload = unpacked
	}
	if text && !utf8.Valid(payload) {
		s.handler.Broken(CloseNotUTF8, "the message is not UTF-8")
		return
	}
	s.handler.Receive(payload, text)
}

func (c *webSocket) control(s *Stream, h ws.Header, payload []byte) error {
	s.handler.Control()
	switch h.OpCode {
	case ws.OpPing:
		s.say(ws.MustCompileFrame(ws.NewPongFrame(payload)))
	case ws.OpClose:
		if s.answer() {
			return io.EOF
		}
		code, reason := CloseNoCode, ""
		if len(payload) > 0 {
			status, text := ws.ParseCloseFrameData(payload)
			if ws.CheckCloseFrameData(status, text) != nil {
				status = CloseProtocolError
			}
			code = int(status)
		}
		s.Finish(code, reason)
	}
	return nil
}

func (c *webSocket) appendFrame(to []byte, t deflate.Text) []byte {
	if c.deflates {
		if packed := t.Packed(); packed != nil {
			return append(appendHeader(to, packedText, len(packed)), packed...)
		}
	}
	return append(appendHeader(to, ws.OpText, len(t.Plain())), t.Plain()...)
}

// packedText is a text message with the bit RSV1, which says that it is compressed (RFC 7692 §6).
const packedText = ws.OpText | 0x40

func (c *webSocket) appendGoodbye(to []byte, code int, reason string) []byte {
	var body []byte
	if code != CloseNoCode {
		body = ws.NewCloseFrameBody(ws.StatusCode(code), reason)
	}
	return append(appendHeader(to, ws.OpClose, len(body)), body...)
}

// appendHeader writes the header of an unmasked frame (RFC 6455 §5.2).
func appendHeader(to []byte, op ws.OpCode, length int) []byte {
	to = append(to, 0x80|byte(op))
	switch {
	case length < 126:
		return append(to, byte(length))
	case length < 1<<16:
		return append(to, 126, byte(length>>8), byte(length))
	}
	return append(to, 127, byte(length>>56), byte(length>>48), byte(length>>40), byte(length>>32),
		byte(length>>24), byte(length>>16), byte(length>>8), byte(length))
}
