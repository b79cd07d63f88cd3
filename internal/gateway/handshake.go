package gateway

import (
	"crypto/sha1" // RFC 6455 asks for it
	"encoding/base64"
	"net"
	"strings"

	"github.com/valyala/fasthttp"

	"tovik.example/tovik/wire"
)

// keySuffix is appended to the key of a handshake (RFC 6455 §1.3).
const keySuffix = "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"

// handshake checks that a request opens a WebSocket (RFC 6455 §4.2.1), and returns
// what the answer has to prove.
func handshake(ctx *fasthttp.RequestCtx) (accept string, err error) {
	h := &ctx.Request.Header
	wrong := func(detail string) error {
		return &wire.Problem{Code: wire.CodeNotWebSocket, Detail: detail,
			Allowed: "GET with Connection: Upgrade, Upgrade: websocket, Sec-WebSocket-Version: 13 and a Sec-WebSocket-Key"}
	}
	key := h.Peek("Sec-WebSocket-Key")
	nonce, notBase64 := base64.StdEncoding.DecodeString(string(key))
	switch {
	case !ctx.IsGet() || !hasToken(h.Peek("Connection"), "upgrade") || !hasToken(h.Peek("Upgrade"), "websocket"):
		return "", wrong("this is not a WebSocket handshake")
	case string(h.Peek("Sec-WebSocket-Version")) != "13":
		return "", wrong("the handshake is of another version of WebSocket")
	case notBase64 != nil || len(nonce) != 16:
		return "", wrong("the handshake has no key of 16 bytes")
	}
	sum := sha1.Sum(append(key, keySuffix...))
	return base64.StdEncoding.EncodeToString(sum[:]), nil
}

// hasToken tells whether a header, a list with commas, has a word.
func hasToken(header []byte, word string) bool {
	for item := range strings.SplitSeq(string(header), ",") {
		if strings.EqualFold(strings.TrimSpace(item), word) {
			return true
		}
	}
	return false
}

func hostOf(address net.Addr) string {
	if tcp, ok := address.(*net.TCPAddr); ok {
		return tcp.IP.String()
	}
	return address.String()
}
