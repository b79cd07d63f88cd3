package gateway

import (
	"bytes"
	"context"
	"time"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/pace"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// webSocket is a link whose requests come as frames. It is the handler of its stream.
type webSocket struct {
	link

	// Used by the receiver only, one frame at a time.
	frames pace.Pace
	excess pace.Pace
	told   pace.Pace // of telling the client that it sends too much
	early  [][]byte  // frames received while another one is carried out, at most maxEarly; guarded by mu
	waits  bool      // another goroutine is carrying out a frame; guarded by mu
	beside bool      // frames are carried out in another goroutine, because they may take long
}

func (*webSocket) isStream() bool { return false }

func (*webSocket) released(talk *realm.Conversation) { talk.Close() }

func (*webSocket) every(p *presence.Policy) time.Duration { return p.BeatEvery }

func (s *webSocket) sweep(p *presence.Policy, quiet time.Duration, waits bool) {
	switch {
	case quiet > p.BeatEvery+p.Silence(): // it has been asked in that time
		s.finish(wire.CloseSilent, presence.ReasonSilent.String())
	case waits && quiet >= p.BeatEvery:
		s.send(outgoing{frame: beatFrame})
	}
}

// Receive implements [transport.Handler].
func (s *webSocket) Receive(data []byte, text bool) {
	if !s.mayReceive() {
		return
	}
	if !text {
		s.refuse(nil, &wire.Problem{Code: wire.CodeNotJSON, Detail: "the frame is binary", Allowed: "text frames, each one JSON object"})
		return
	}
	if !s.hold(data) {
		s.receive(data)
	}
}

// receive carries out a frame of the client, or answers why not.
func (s *webSocket) receive(data []byte) {
	f, err := readFrame(data)
	if err == nil {
		err = s.dispatch(f)
	}
	if err != nil {
		s.refuse(f.id, err)
	}
}

func (s *webSocket) dispatch(f frame) error {
	talk := s.talk.Load()
	if err := f.inOrder(talk != nil); err != nil {
		return err
	}
	if talk == nil {
		h, err := f.hello()
		if err != nil {
			return err
		}
		s.stream().ExpectWithin(0)
		if s.gateway.realms.AsksOthers(f.name) {
			s.aside(f.id, func() error { return s.hello(h) })
			return nil
		}
		return s.hello(h)
	}
	s.hear()
	r, err := f.request()
	if err != nil {
		talk.Hear(s.carries) // a refused request is a sign of life, too
		return err
	}
	if talk.Waits(s.gateway.realms, f.name) {
		s.requestLater(talk, r)
		return nil
	}
	return s.request(context.Background(), talk, r)
}

// requestLater carries out a request that may have to wait for others.
func (s *webSocket) requestLater(talk *realm.Conversation, r wire.Request) {
	s.aside(r.ID, func() error {
		ctx, over := s.during()
		defer over()
		return s.request(ctx, talk, r)
	})
}

// aside does what may have to wait for others in another goroutine, for the request of an id.
func (s *webSocket) aside(id wire.ID, do func() error) {
	s.later(func() {
		if err := do(); err != nil {
			s.refuse(id, err)
		}
	})
}

// hello carries out a hello. If the core has to probe an older link first, the answer comes
// later, and the frames received until then wait.
func (s *webSocket) hello(h wire.Hello) error {
	if h.Version != wire.Version {
		return wrongVersion(h.Version)
	}
	ctx, done := s.during()
	defer done()
	c, err := s.gateway.realms.Greet(ctx, h, s.caller)
	if err != nil {
		return err
	}
	if err := s.gateway.reserve(&s.link, c); err != nil {
		return err
	}
	if c, err = c.Admit(ctx); err != nil {
		s.gateway.forget(&s.link)
		return err
	}
	if !c.Session() {
		s.greeted(h.ID, c, presence.Reply{})
		return nil
	}
	reply, wait, err := c.Begin()
	switch {
	case err != nil:
		s.gateway.forget(&s.link)
		return err
	case wait == nil:
		s.greeted(h.ID, c, reply)
		return nil
	}
	s.later(func() {
		ctx, done := s.during()
		defer done()
		reply, err := wait(ctx)
		switch {
		case err == nil:
			s.greeted(h.ID, c, reply)
		case ctx.Err() == nil:
			s.gateway.forget(&s.link)
			s.refuse(h.ID, err)
		} // otherwise the connection has ended, and the hello was withdrawn
	})
	return nil
}

// greeted starts the conversation of an accepted hello, and answers it.
func (s *webSocket) greeted(id wire.ID, c *realm.Greeting, reply presence.Reply) {
	talk, opened := c.Converse(reply, s.wake)
	s.greet(talk, reply, wire.Encode(wire.Answer{Type: wire.TypeAnswer, Re: id, Opened: opened}))
}

// request carries out a request after the hello.
func (s *webSocket) request(ctx context.Context, talk *realm.Conversation, r wire.Request) error {
	done, err := talk.Do(ctx, s.by(), r)
	s.tellDropped(done.Dropped)
	if err != nil {
		return err
	}
	if r.Type == wire.TypeBeat {
		s.gateway.beats.Add(1)
		if r.ID == nil { // it answers a beat request and needs no answer
			return nil
		}
	}
	if done.Wait != nil {
		s.answerAfter(r.ID, done)
		return nil
	}
	s.answer(r.ID, done)
	return nil
}

// answerAfter answers when the answer is ready.
func (s *webSocket) answerAfter(id wire.ID, done realm.Done) {
	wait := func() {
		var err error
		if done.Answer, err = done.Wait(); err != nil {
			s.refuse(id, err)
			return
		}
		s.answer(id, done)
	}
	if done.Hold {
		s.later(wait)
	} else {
		s.gateway.waiting.Go(wait)
	}
}

// answer answers a request.
func (s *webSocket) answer(id wire.ID, done realm.Done) {
	done.Answer.Type, done.Answer.Re = wire.TypeAnswer, id
	s.send(outgoing{before: done.Before, after: done.After, frame: wire.Encode(done.Answer)})
	s.conclude(done)
}

// refuse answers a request with an error. Before the hello it also closes the link.
func (s *webSocket) refuse(id wire.ID, err error) { s.fail(id, err, 0) }

func (s *webSocket) fail(id wire.ID, err error, code int) {
	s.send(outgoing{frame: s.gateway.errorFrame(id, err)})
	if s.talk.Load() == nil {
		s.gateway.turnedAway(problem.Of(err).Code)
		if code == 0 {
			code = wire.CloseRefused
		}
	}
	if code != 0 {
		s.finish(code, problem.Of(err).Code)
	}
}

// later carries out what may take long in another goroutine, so that the end of the connection
// is noticed. Frames received until then wait, in order.
func (s *webSocket) later(do func()) {
	if s.beside {
		do()
		return
	}
	s.mu.Lock()
	s.waits = true
	s.mu.Unlock()
	s.beside = true
	s.gateway.waiting.Go(func() {
		do()
		for {
			s.mu.Lock()
			if len(s.early) == 0 {
				s.waits, s.early, s.beside = false, nil, false
				s.mu.Unlock()
				return
			}
			next := s.early[0]
			s.early = s.early[1:]
			s.mu.Unlock()
			s.receive(next)
		}
	})
}

// hold keeps a frame that has to wait for another one.
func (s *webSocket) hold(data []byte) bool {
	s.mu.Lock()
	waits, full := s.waits, len(s.early) >= maxEarly
	if waits && !full {
		s.early = append(s.early, bytes.Clone(data))
	}
	s.mu.Unlock()
	if waits && full {
		s.finish(wire.CloseTooFast, wire.CodeTooFast)
	}
	return waits
}

// mayReceive limits the rate of frames. Frames beyond it are refused, and reported once a
// second; a client that continues is closed.
func (s *webSocket) mayReceive() bool {
	now := time.Now()
	if s.frames.Take(now, frameRate) {
		return true
	}
	if !s.excess.Take(now, excessRate) {
		s.stream().Finish(wire.CloseTooFast, wire.CodeTooFast)
		return false
	}
	if s.told.Take(now, tellRate) {
		s.fail(nil, errTooFast, 0)
	}
	return false
}

// MayWait implements [transport.Handler]: a hello is much work and must not delay the frames of
// other links.
func (s *webSocket) MayWait() bool { return s.talk.Load() == nil }

// Control implements [transport.Handler].
func (s *webSocket) Control() { s.mayReceive() }

// Broken implements [transport.Handler].
func (s *webSocket) Broken(code int, reason string) {
	if code == transport.CloseTooLarge {
		s.fail(nil, &wire.Problem{Code: wire.CodeTooLarge, Detail: "the frame is too large", Allowed: "frames of at most 16384 bytes"}, code)
		return
	}
	s.stream().Finish(code, reason)
}

// Overdue implements [transport.Handler].
func (s *webSocket) Overdue() {
	s.refuse(nil, &wire.Problem{Code: wire.CodeHelloTimeout, Detail: "no valid hello came in time", Allowed: "a hello within 5 seconds"})
}

// Fetch implements [transport.Handler].
func (s *webSocket) Fetch(frames []deflate.Text) ([]deflate.Text, bool) {
	frames, talk := s.fetchOutbox(frames)
	if talk == nil {
		return frames, false
	}
	return talk.Next(frames)
}
