package hooks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"time"

	"tovik.example/tovik/internal/records"
)

// attempt sends a delivery once, and returns the outcome and the pause before the next attempt.
func (d *Dispatcher) attempt(ctx context.Context, h *hook, one records.Delivery) (records.Delivery, time.Duration) {
	asked := time.Time{}
	one, asked = d.post(ctx, h, one)
	switch {
	case one.Error == "" && one.Answered >= 200 && one.Answered < 300:
		one.State, one.Due = records.Delivered, 0
		return one, 0
	case one.Attempts > len(d.retries), one.Answered == http.StatusGone:
		one.State, one.Due = records.Parked, 0
		d.log.Warn("a delivery is parked", "hook", h.ID, "delivery", one.ID, "answered", one.Answered, "error", one.Error)
		return one, 0
	}
	wait := d.retries[one.Attempts-1]
	wait += time.Duration(rand.Int64N(int64(wait)/5 + 1)) // so that not all come at once
	wait = max(wait, min(time.Until(asked), maxWait))
	one.Due = time.Now().Add(wait).UnixMilli()
	return one, wait
}

// post sends a request once. Asked is when the receiver wants the next attempt, if it says so.
func (d *Dispatcher) post(ctx context.Context, h *hook, one records.Delivery) (_ records.Delivery, asked time.Time) {
	d.mu.Lock()
	url, secrets := h.URL, h.secrets
	if h.OldUntil < time.Now().UnixMilli() {
		secrets = secrets[:1]
	}
	d.mu.Unlock()
	began := time.Now()
	one.Attempts++
	one.Tried, one.Answered, one.Answer, one.Error = began.UnixMilli(), 0, "", ""
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(one.Body))
	if err != nil {
		one.Error = err.Error()
		return one, asked
	}
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("User-Agent", "Tovik")
	Sign(request.Header, one.Event, began, one.Body, secrets...)
	response, err := d.client.Do(request)
	if err != nil {
		one.Took, one.Error = time.Since(began).Milliseconds(), plain(err)
		return one, asked
	}
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	one.Took, one.Answered, one.Answer = time.Since(began).Milliseconds(), response.StatusCode, string(bytes.ToValidUTF8(text, []byte("?")))
	if err != nil {
		one.Error = plain(err)
	}
	if seconds, err := strconv.Atoi(response.Header.Get("Retry-After")); err == nil && seconds > 0 {
		asked = time.Now().Add(time.Duration(min(seconds, int(maxWait/time.Second))) * time.Second)
	}
	return one, asked
}

// plain describes an error without repeating the URL.
func plain(err error) string {
	if timeout, ok := err.(interface{ Timeout() bool }); ok && timeout.Timeout() {
		return fmt.Sprintf("no answer within %s", answerTimeout)
	}
	for next := errors.Unwrap(err); next != nil; next = errors.Unwrap(err) {
		err = next
		var op interface{ Temporary() bool }
		if errors.As(err, &op) {
			break
		}
	}
	return err.Error()
}
