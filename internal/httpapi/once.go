package httpapi

import (
	"crypto/sha256"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// How answers to requests with an idempotency key are kept: in memory, because some have a
// secret in them that is nowhere else.
const (
	idempotencyKey = "Idempotency-Key"
	answersFor     = 24 * time.Hour
	maxAnswers     = 10_000
	maxAnswer      = 64 << 10
)

// answers are what was answered to requests that named themselves.
type answers struct {
	mu    sync.Mutex
	known *simplelru.LRU[asker, *answer] // made at the first use
}

// asker is a key and what it has named a request.
type asker struct{ key, name string }

// answer is what was answered to a request.
type answer struct {
	request [sha256.Size]byte // method, address and body
	at      time.Time
	done    bool // false while the request is under way
	status  int
	media   string
	body    []byte
}

// begin finds what was answered before, or notes that a request is under way.
func (s *answers) begin(who asker, request [sha256.Size]byte, now time.Time) (before answer, again bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known, _ = simplelru.NewLRU[asker, *answer](maxAnswers, nil) // fails for no size only
	}
	if known, ok := s.known.Get(who); ok && now.Sub(known.at) < answersFor {
		return *known, true
	}
	s.known.Add(who, &answer{request: request, at: now})
	return answer{}, false
}

// end notes what was answered, or with a zero status that the request may come anew.
func (s *answers) end(who asker, status int, media string, body []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	known, ok := s.known.Peek(who)
	if !ok {
		return // many others came meanwhile
	}
	if status == 0 || len(body) > maxAnswer {
		s.known.Remove(who)
		return
	}
	known.done, known.status, known.media, known.body = true, status, media, body
}

// once carries out a request with an idempotency key a single time, and repeats its answer
// when the request comes again (draft-ietf-httpapi-idempotency-key-header).
func (a *API) once(c fiber.Ctx) error {
	name := strings.Trim(c.Get(idempotencyKey), `"`)
	if name == "" {
		return c.Next()
	}
	if len(name) > 255 || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r > '~' }) {
		return problem.BadField(idempotencyKey, name, "a request cannot have this name", "1 to 255 visible characters, as of a UUID")
	}
	digest := sha256.New()
	for _, part := range [][]byte{[]byte(c.Method()), []byte(c.OriginalURL()), c.Body()} {
		sum := sha256.Sum256(part)
		_, _ = digest.Write(sum[:]) // a hash takes everything
	}
	who, request := asker{operatorOf(c).Key, name}, [sha256.Size]byte(digest.Sum(nil))
	before, again := a.answers.begin(who, request, time.Now())
	switch {
	case again && before.request != request:
		return &wire.Problem{Code: wire.CodeKeyReused, Field: idempotencyKey, Value: wire.Shorten(name), Detail: "another request had this name", Allowed: "a new name for a new request"}
	case again && !before.done:
		return &wire.Problem{Code: wire.CodeUnderWay, Field: idempotencyKey, Value: wire.Shorten(name), Detail: "the request of this name is being carried out"}
	case again:
		if before.media != "" {
			c.Set(fiber.HeaderContentType, before.media)
		}
		return c.Status(before.status).Send(before.body)
	}
	kept := false
	defer func() { // also when the handler has failed altogether
		if !kept {
			a.answers.end(who, 0, "", nil)
		}
	}()
	if err := c.Next(); err != nil {
		if err := a.fail(c, err); err != nil {
			return err
		}
	}
	status := c.Response().StatusCode()
	if status < 500 && status != fiber.StatusTooManyRequests && !c.Response().IsBodyStream() {
		kept = true
		a.answers.end(who, status, c.GetRespHeader(fiber.HeaderContentType), append([]byte(nil), c.Response().Body()...))
	}
	return nil
}
