package httpapi

import (
	"bytes"
	"crypto/sha1" // RFC 6455 asks for it
	"encoding/base64"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/wire"
)

// keySuffix is appended to the key of a handshake (RFC 6455 §1.3).
const keySuffix = "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"

// handshake checks the request for a WebSocket (RFC 6455 §4.2.1), and returns the value of
// Sec-WebSocket-Accept.
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

// hasToken reports whether a header with a list contains a word.
func hasToken(header []byte, word string) bool {
	for item := range strings.SplitSeq(string(header), ",") {
		if strings.EqualFold(strings.TrimSpace(item), word) {
			return true
		}
	}
	return false
}

// openLink makes the request a WebSocket link, which continues after the handler.
func (a *API) openLink(c fiber.Ctx) error {
	ctx, caller := c.RequestCtx(), a.caller(c)
	accept, err := handshake(ctx)
	if err != nil {
		return err
	}
	if err := a.gateway.MayOpen(caller.Address); err != nil {
		return err
	}
	ctx.SetStatusCode(fasthttp.StatusSwitchingProtocols)
	ctx.Response.Header.Set("Upgrade", "websocket")
	ctx.Response.Header.Set("Connection", "Upgrade")
	ctx.Response.Header.Set("Sec-WebSocket-Accept", accept)
	agreed, deflates := deflate.Accept(bytes.Join(ctx.Request.Header.PeekAll("Sec-WebSocket-Extensions"), []byte(",")))
	if deflates {
		ctx.Response.Header.Set("Sec-WebSocket-Extensions", agreed)
	}
	ctx.Hijack(func(c net.Conn) {
		conn, early := release(c)
		a.gateway.WebSocket(conn, early, deflates, caller)
	})
	return nil
}

// streamHead is the response head of an event stream. It has no length: the stream ends with its
// connection. The last line keeps a proxy from buffering.
var streamHead = []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream; charset=utf-8\r\nCache-Control: no-store\r\n" +
	"Connection: close\r\nAccess-Control-Allow-Origin: *\r\nX-Content-Type-Options: nosniff\r\nX-Accel-Buffering: no\r\n\r\n")

// stayAway keeps the HTTP server from reusing the wrapper of a connection that becomes a link: a
// pooled wrapper could be given to another client while the link still writes to it.
func stayAway(s *fasthttp.Server) { s.KeepHijackedConns = true }

// release takes the connection from the HTTP server, with the bytes that it has read already. A
// read that must not wait returns only what is buffered.
func release(c net.Conn) (net.Conn, []byte) {
	conn := c
	if h, ok := c.(interface{ UnsafeConn() net.Conn }); ok {
		conn = h.UnsafeConn()
	}
	_ = conn.SetReadDeadline(time.Unix(1, 0))
	buffer := handshakeBuffers.Get().(*[]byte)
	defer handshakeBuffers.Put(buffer)
	n, _ := c.Read(*buffer)
	_ = conn.SetReadDeadline(time.Time{})
	return conn, slices.Clone((*buffer)[:n])
}

// handshakeBuffers have the size of the HTTP server's read buffer.
var handshakeBuffers = sync.Pool{New: func() any {
	buffer := make([]byte, 4<<10)
	return &buffer
}}
