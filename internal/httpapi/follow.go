package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/realm"
)

// follow answers with server-sent events: the frames that a link with the same watch would get,
// each event named by its type.
func (a *API) follow(c fiber.Ctx) func(realm.Subject, error) error {
	return func(subject realm.Subject, err error) error {
		if err != nil {
			return err
		}
		desk := deskOf(c)
		c.Set(fiber.HeaderCacheControl, "no-store")
		return a.stream(c, asStream, func(ctx context.Context, w io.Writer, flush func() error) error {
			woken := make(chan struct{}, 1) // one is enough: everything new is fetched at once
			following := desk.Follow(subject, func() {
				select {
				case woken <- struct{}{}:
				default:
				}
			})
			defer following.Close()
			return writeFollowed(ctx, w, flush, following, woken)
		})
	}
}

func writeFollowed(ctx context.Context, w io.Writer, flush func() error, following *realm.Following, woken <-chan struct{}) error {
	if _, err := io.WriteString(w, "retry: 1000\n\n"); err != nil {
		return err
	}
	var frames [][]byte
	for more := true; ; {
		if more {
			frames, more = following.Next(frames[:0])
			for _, frame := range frames {
				if err := writeEvent(w, frame); err != nil {
					return err
				}
			}
			if err := flush(); err != nil {
				return err
			}
			continue
		}
		select {
		case <-ctx.Done():
			return nil
		case <-woken:
			more = true
		case <-time.After(streamSilent):
			if err := stillHere(w, flush); err != nil {
				return err
			}
		}
	}
}

// repeat answers with server-sent events: a document each time that it has changed. Read returns
// it; news, which is called before each reading, returns a channel that says when to read again.
// It is read at most once in every.
func (a *API) repeat(c fiber.Ctx, event string, every time.Duration, news func() <-chan struct{}, read func(context.Context) (any, error)) error {
	c.Set(fiber.HeaderCacheControl, "no-store")
	return a.stream(c, asStream, func(ctx context.Context, w io.Writer, flush func() error) error {
		if _, err := io.WriteString(w, "retry: 1000\n\n"); err != nil {
			return err
		}
		var last []byte
		for {
			again, rest := news(), after(every)
			document, err := read(ctx)
			if err != nil {
				return err
			}
			if text, _ := json.Marshal(document); !bytes.Equal(text, last) { // plain data
				if last = text; writeNamed(w, event, text) != nil || flush() != nil {
					return nil
				}
			}
			for _, news := range []<-chan struct{}{again, rest} {
				if err := awaitNews(ctx, w, flush, news); err != nil || ctx.Err() != nil {
					return err
				}
			}
		}
	})
}

// awaitNews waits until there may be news, and meanwhile keeps the stream alive.
func awaitNews(ctx context.Context, w io.Writer, flush func() error, news <-chan struct{}) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-news:
			return nil
		case <-time.After(streamSilent):
			if err := stillHere(w, flush); err != nil {
				return err
			}
		}
	}
}

// after returns a channel that closes after a while.
func after(d time.Duration) <-chan struct{} {
	done := make(chan struct{})
	time.AfterFunc(d, func() { close(done) })
	return done
}

func writeNamed(w io.Writer, event string, text []byte) error {
	_, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, text)
	return err
}

func writeEvent(w io.Writer, frame []byte) error {
	var head struct {
		Type string `json:"type"`
	}
	if err := json.Unmarshal(frame, &head); err != nil {
		return err
	}
	return writeNamed(w, head.Type, frame)
}

// stillHere is sent to keep proxies from closing a quiet stream.
func stillHere(w io.Writer, flush func() error) error {
	if _, err := io.WriteString(w, ": still here\n\n"); err != nil {
		return err
	}
	return flush()
}
