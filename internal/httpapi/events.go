package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"time"

	"github.com/gofiber/fiber/v3"
)

// events are server-sent events (HTML, section 9.2) on their way to a reader.
type events struct {
	w io.Writer
	// flush sends what has been written. Its error says that the reader is gone.
	flush func() error
}

// sendEvents answers with the server-sent events that tell writes.
func (a *API) sendEvents(c fiber.Ctx, tell func(context.Context, events) error) error {
	c.Set(fiber.HeaderCacheControl, "no-store")
	return a.stream(c, asStream, func(ctx context.Context, w io.Writer, flush func() error) error {
		if _, err := io.WriteString(w, "retry: 1000\n\n"); err != nil {
			return err
		}
		return tell(ctx, events{w, flush})
	})
}

// say writes a document as an event.
func (e events) say(event string, document any) error {
	text, _ := json.Marshal(document) // plain data
	return e.write(event, text)
}

// sayNumbered says an event with an id, after which a reader continues when the stream broke off.
func (e events) sayNumbered(id int64, event string, document any) error {
	if _, err := fmt.Fprintf(e.w, "id: %d\n", id); err != nil {
		return err
	}
	return e.say(event, document)
}

func (e events) write(event string, text []byte) error {
	_, err := fmt.Fprintf(e.w, "event: %s\ndata: %s\n\n", event, text)
	return err
}

// await sends what has been written, and waits for news or for a time to pass. Meanwhile it sends
// comments, so that proxies do not close a quiet stream. It returns an error when the stream is
// over.
func (e events) await(ctx context.Context, news <-chan struct{}, pass time.Duration) error {
	due := time.NewTimer(pass)
	defer due.Stop()
	for {
		if err := e.flush(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-news:
			return nil
		case <-due.C:
			return nil
		case <-time.After(streamSilent):
			if _, err := io.WriteString(e.w, ": still here\n\n"); err != nil {
				return err
			}
		}
	}
}

// forever is a time that does not pass.
const forever = time.Duration(math.MaxInt64)

// repeat answers with server-sent events: a document, and again whenever it has changed. The
// document is read again when the channel that news returned has closed, or after the time that
// read returned, but not before every has passed.
func (a *API) repeat(c fiber.Ctx, event string, every time.Duration, news func() <-chan struct{}, read func(context.Context) (document any, again time.Duration, err error)) error {
	return a.sendEvents(c, func(ctx context.Context, e events) error {
		var last []byte
		for {
			closed := news() // before reading, so that none is missed in between
			document, again, err := read(ctx)
			if err != nil {
				return err
			}
			if text, _ := json.Marshal(document); !bytes.Equal(text, last) { // plain data
				last = text
				if err := e.write(event, text); err != nil {
					return err
				}
			}
			if err := e.await(ctx, nil, every); err != nil {
				return err
			}
			if err := e.await(ctx, closed, again-every); err != nil {
				return err
			}
		}
	})
}
