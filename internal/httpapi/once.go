package httpapi

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/hashicorp/golang-lru/v2/simplelru"

	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Answers to requests with an idempotency key are kept in memory only, because some contain
// secrets that are stored nowhere else. In a cluster, one node keeps all answers of a key.
const (
	idempotencyKey = "Idempotency-Key"
	answersFor     = 24 * time.Hour
	maxAnswers     = 10_000
	maxAnswer      = 64 << 10
	underWayFor    = time.Minute // after this time, whoever carries out a request must have ended
)

// answers holds the answers to requests with idempotency keys.
type answers struct {
	mu    sync.Mutex
	known *simplelru.LRU[asker, *answer] // created on first use
}

// asker is an operator's key with an idempotency key.
type asker struct {
	Key  string `json:"key"`
	Name string `json:"name"`
}

// answer is a kept answer.
type answer struct {
	Request [sha256.Size]byte `json:"request"` // method, address and body
	At      time.Time         `json:"at"`
	Done    bool              `json:"done"` // false while the request is being carried out
	Status  int               `json:"status"`
	Media   string            `json:"media"`
	Body    []byte            `json:"body"`
}

// keeping is what nodes ask the keeper of an idempotency key.
type keeping struct {
	Who    asker  `json:"who"`
	Answer answer `json:"answer"` // to keep, or with the request only
}

// kept is what a keeper knows.
type kept struct {
	Before answer `json:"before"`
	Again  bool   `json:"again"`
}

// begin finds the kept answer, or notes that the request is being carried out.
func (s *answers) begin(who asker, request [sha256.Size]byte, now time.Time) (before answer, again bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known, _ = simplelru.NewLRU[asker, *answer](maxAnswers, nil) // fails only for size 0
	}
	if known, ok := s.known.Get(who); ok {
		if age := now.Sub(known.At); age < underWayFor || known.Done && age < answersFor {
			return *known, true
		}
	}
	s.known.Add(who, &answer{Request: request, At: now})
	return answer{}, false
}

// end keeps the answer. A zero status means that the request may be carried out again.
func (s *answers) end(who asker, is answer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	known, ok := s.known.Peek(who)
	if !ok {
		return // it was evicted
	}
	if is.Status == 0 || len(is.Body) > maxAnswer {
		s.known.Remove(who)
		return
	}
	known.Done, known.Status, known.Media, known.Body = true, is.Status, is.Media, is.Body
}

// Requests of nodes to the keeper of an idempotency key.
const (
	askBegin = "once-begin"
	askEnd   = "once-end"
)

// keepForPeers keeps answers for other nodes.
func (a *API) keepForPeers() {
	a.peers.Answer(askBegin, func(_ context.Context, question json.RawMessage) (any, error) {
		var q keeping
		if err := json.Unmarshal(question, &q); err != nil {
			return nil, err
		}
		before, again := a.answers.begin(q.Who, q.Answer.Request, time.Now())
		return kept{before, again}, nil
	})
	a.peers.Answer(askEnd, func(_ context.Context, question json.RawMessage) (any, error) {
		var q keeping
		if err := json.Unmarshal(question, &q); err != nil {
			return nil, err
		}
		a.answers.end(q.Who, q.Answer)
		return nil, nil
	})
}

// keepers returns the nodes in the order in which they keep the answers of a key: the first one that is there
// does (rendezvous hashing).
func (a *API) keepers(who asker) []string {
	nodes := a.peers.All()
	slices.SortFunc(nodes, func(one, other string) int {
		return cmp.Compare(xxhash.Sum64String(one+" "+who.Key+" "+who.Name), xxhash.Sum64String(other+" "+who.Key+" "+who.Name))
	})
	return nodes
}

// beginOnce has the keeper of the key begin, and returns who that is; empty: this service is alone.
func (a *API) beginOnce(ctx context.Context, who asker, request [sha256.Size]byte) (keeper string, is kept, err error) {
	if a.peers == nil {
		is.Before, is.Again = a.answers.begin(who, request, time.Now())
		return "", is, nil
	}
	for _, keeper = range a.keepers(who) {
		err = a.peers.Ask(ctx, keeper, askBegin, keeping{who, answer{Request: request}}, &is)
		if !errors.Is(err, peers.ErrGone) {
			break
		}
	}
	if errors.Is(err, peers.ErrAway) {
		err = &wire.Problem{Code: wire.CodeNotReady, Field: idempotencyKey, Value: wire.Shorten(who.Name),
			Detail: "the node that keeps the answers of this idempotency key does not answer", Allowed: "the same request again in a second"}
	}
	return keeper, is, err
}

// endOnce has the keeper keep an answer.
func (a *API) endOnce(keeper string, who asker, is answer) {
	if keeper == "" {
		a.answers.end(who, is)
		return
	}
	var none any
	if err := a.peers.Ask(context.Background(), keeper, askEnd, keeping{who, is}, &none); err != nil {
		a.log.Warn("the answer of a request with an idempotency key could not be kept", "node", keeper, "error", err)
	}
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
	keeper, is, err := a.beginOnce(c.Context(), who, request)
	if err != nil {
		return err
	}
	switch before, again := is.Before, is.Again; {
	case again && before.Request != request:
		return &wire.Problem{Code: wire.CodeKeyReused, Field: idempotencyKey, Value: wire.Shorten(name), Detail: "this idempotency key was used for another request", Allowed: "a new name for a new request"}
	case again && !before.Done:
		return &wire.Problem{Code: wire.CodeUnderWay, Field: idempotencyKey, Value: wire.Shorten(name), Detail: "a request with this idempotency key is still running"}
	case again:
		if before.Media != "" {
			c.Set(fiber.HeaderContentType, before.Media)
		}
		return c.Status(before.Status).Send(before.Body)
	}
	done := answer{}
	defer func() { a.endOnce(keeper, who, done) }() // also after a panic
	if err := c.Next(); err != nil {
		if err := a.fail(c, err); err != nil {
			return err
		}
	}
	status := c.Response().StatusCode()
	if status < 500 && status != fiber.StatusTooManyRequests && !c.Response().IsBodyStream() {
		done = answer{Status: status, Media: c.GetRespHeader(fiber.HeaderContentType), Body: append([]byte(nil), c.Response().Body()...)}
	}
	return nil
}
