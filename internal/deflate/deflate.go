// Package deflate implements the compression of WebSocket messages (permessage-deflate, RFC 7692),
// without context takeover: each message is compressed by itself, so a link keeps nothing for it,
// and a message that many receive is compressed once.
package deflate

import (
	"bytes"
	"errors"
	"io"
	"sync"

	"github.com/gobwas/httphead"
	"github.com/gobwas/ws/wsflate"
	"github.com/klauspost/compress/flate"
)

// Accept answers the offers in a Sec-WebSocket-Extensions header (RFC 7692 §7.1). It returns the
// value of that header in the response, and whether an offer was accepted. Offers that are
// malformed, or ask for a smaller window than the compressor has, are declined.
func Accept(offers []byte) (answer string, accepted bool) {
	options, ok := httphead.ParseOptions(offers, nil)
	if !ok {
		return "", false
	}
	extension := wsflate.Extension{Parameters: wsflate.Parameters{ServerNoContextTakeover: true, ClientNoContextTakeover: true}}
	for _, offer := range options {
		if option, err := extension.Negotiate(offer); err == nil && option.Size() > 0 {
			var text bytes.Buffer
			_, _ = httphead.WriteOptions(&text, []httphead.Option{option})
			return text.String(), true
		}
	}
	return "", false
}

// Text is the text of a message, which may be sent compressed.
type Text struct {
	plain  []byte
	packed *packed // nil: it is never compressed
}

// packed is the compressed text, shared by all who send it.
type packed struct {
	once sync.Once
	data []byte
}

// worthwhile is the length in bytes from which a text is compressed. A shorter one fits into a packet or two anyway.
const worthwhile = 2 << 10

// Plain returns a text that is never compressed, for what goes to one receiver.
func Plain(text []byte) Text { return Text{plain: text} }

// Shared returns a text for many receivers. If it is long, it is compressed when the first of them asks for that. It
// must contain no secrets: the length of compressed data tells something about its content.
func Shared(text []byte) Text {
	if len(text) < worthwhile {
		return Plain(text)
	}
	return Text{plain: text, packed: new(packed)}
}

// Plain returns the text as it is.
func (t Text) Plain() []byte { return t.plain }

// Packed returns the compressed text as the payload of a message (RFC 7692 §7.2.1), or nil if it is not to be
// compressed. Only the first call takes long; others wait for it.
func (t Text) Packed() []byte {
	if t.packed == nil {
		return nil
	}
	t.packed.once.Do(func() { t.packed.data = pack(t.plain) })
	return t.packed.data
}

var writers = sync.Pool{New: func() any {
	return wsflate.NewWriter(nil, func(w io.Writer) wsflate.Compressor {
		c, err := flate.NewWriter(w, flate.BestSpeed)
		if err != nil {
			panic(err) // the level is a constant
		}
		return c
	})
}}

// pack compresses a text; nil if it does not become shorter.
func pack(text []byte) []byte {
	w := writers.Get().(*wsflate.Writer)
	defer writers.Put(w)
	to := bytes.NewBuffer(make([]byte, 0, len(text)/4))
	w.Reset(to)
	_, err := w.Write(text)
	if errors.Join(err, w.Flush()) != nil || to.Len() >= len(text) {
		return nil
	}
	return bytes.Clone(to.Bytes())
}

// ErrTooLarge is the error of [Unpack] for a message that is too large when it is decompressed.
var ErrTooLarge = errors.New("the message is too large when it is decompressed")

// reader decompresses one message at a time.
type reader struct {
	message []byte // with its tail
	source  bytes.Reader
	text    io.ReadCloser
}

var readers = sync.Pool{New: func() any {
	r := new(reader)
	r.text = flate.NewReader(&r.source)
	return r
}}

// tail is what a sender leaves out at the end of a message (RFC 7692 §7.2.2), with a last block for the reader.
const tail = "\x00\x00\xff\xff\x01\x00\x00\xff\xff"

func (r *reader) begin(message []byte) error {
	r.message = append(append(r.message[:0], message...), tail...)
	r.source.Reset(r.message)
	return r.text.(flate.Resetter).Reset(&r.source, nil)
}

// Unpack returns the content of a compressed message, of at most limit bytes. Its error is [ErrTooLarge], or
// says that the message is not compressed properly.
func Unpack(message []byte, limit int) ([]byte, error) {
	r := readers.Get().(*reader)
	defer readers.Put(r)
	if err := r.begin(message); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(r.text, int64(limit)+1))
	switch {
	case err != nil:
		return nil, err
	case len(text) > limit:
		return nil, ErrTooLarge
	}
	return text, nil
}
