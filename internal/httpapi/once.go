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

// Answers to requests with an idempotency key are kept in memory only, because some contain
// secrets that are stored nowhere else.
const (
	idempotencyKey = "Idempotency-Key"
	answersFor     = 24 * time.Hour
	maxAnswers     = 10_000
	maxAnswer      = 64 << 10
)

// answers holds the answers to requests with idempotency keys.
type answers struct {
	mu    sync.Mutex
	known *simplelru.LRU[asker, *answer] // created on first use
}

// asker is an operator's key with an idempotency key.
type asker struct{ key, name string }

// answer is a kept answer.
type answer struct {
	request [sha256.Size]byte // method, address and body
	at      time.Time
	done    bool // false while the request is being carried out
	status  int
	media   string
	body    []byte
}

// begin finds the kept answer, or notes that the request is being carried out.
func (s *answers) begin(who asker, request [sha256.Size]byte, now time.Time) (before answer, again bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known, _ = simplelru.NewLRU[asker, *answer](maxAnswers, nil) // fails only for size 0
	}
	if known, ok := s.known.Get(who); ok && now.Sub(known.at) < answersFor {
		return *known, true
	}
	s.known.Add(who, &answer{request: request, at: now})
	return answer{}, false
}

// end keeps the answer. A zero status means that the request may be carried out again.
func (s *answers) end(who asker, status int, media string, body []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	known, ok := s.known.Peek(who)
	if !ok {
		return // it was evicted
	}
	if status == 0 || len(body) > maxAnswer {
		s.known.Remove(who)
		return
	}
	known.done, known.status, known.media, known.body = true, status, media, body
}

// once carries out a request with an idempotency key one time, and answers repetitions from
// memory (draft-ietf-httpapi-idempotency-key-header).
func (a *API) once(c fiber.Ctx) error {
	name := strings.Trim(c.Get(idempotencyKey), `"`)
	if name == "" {
		return c.Next()
	}
	if len(name) > 255 || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r > '~' }) {
		return problem.BadField(idempotencyKey, name, "invalid idempotency key", "1 to 255 visible characters, such as a UUID")
	}
	digest := sha256.New()
	for _, part := range [][]byte{[]byte(c.Method()), []byte(c.OriginalURL()), c.Body()} {
		sum := sha256.Sum256(part)
		_, _ = digest.Write(sum[:]) // a hash never fails
	}
	who, request := asker{operatorOf(c).Key, name}, [sha256.Size]byte(digest.Sum(nil))
	before, again := a.answers.begin(who, request, time.Now())
	switch {
	case again && before.request != request:
		return &wire.Problem{Code: wire.CodeKeyReused, Field: idempotencyKey, Value: wire.Shorten(name), Detail: "this idempotency key was used for another request", Allowed: "a new name for a new request"}
	case again && !before.done:
		return &wire.Problem{Code: wire.CodeUnderWay, Field: idempotencyKey, Value: wire.Shorten(name), Detail: "a request with this idempotency key is still running"}
	case again:
		if before.media != "" {
			c.Set(fiber.HeaderContentType, before.media)
		}
		return c.Status(before.status).Send(before.body)
	}
	kept := false
	defer func() { // also after a panic
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
