package httpapi

import (
	"crypto/rand"
	"fmt"
	"math"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
	"golang.org/x/time/rate"

	"tovik.example/tovik/wire"
)

// maxRequestID is how long the id may be that a client gives its request.
const maxRequestID = 64

type requestLocal struct{}

// identifyRequest gives every request an id, its own or that of whoever sent it, which its
// answer, its problem and the log repeat.
func identifyRequest(c fiber.Ctx) error {
	id := c.Get(fiber.HeaderXRequestID)
	if id == "" || len(id) > maxRequestID || strings.ContainsFunc(id, func(r rune) bool { return r <= ' ' || r > '~' }) {
		id = rand.Text()
	}
	c.Locals(requestLocal{}, id)
	c.Set(fiber.HeaderXRequestID, id)
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
	return c.Next()
}

func requestOf(c fiber.Ctx) string {
	id, _ := c.Locals(requestLocal{}).(string)
	return id
}

// worthPacking is how many bytes an answer has at least that is packed: of fewer little is
// saved.
const worthPacking = 1 << 10

// deflate packs what is answered with gzip (RFC 9110 §8.4), pieces of a long answer one
// by one. What is followed live stays as it is, so that nothing waits in a window.
var deflate = fasthttp.CompressHandlerLevel(func(*fasthttp.RequestCtx) {}, fasthttp.CompressBestSpeed)

func compress(c fiber.Ctx) error {
	if err := c.Next(); err != nil {
		return err
	}
	if strings.HasPrefix(c.GetRespHeader(fiber.HeaderContentType), "text/event-stream") || c.Response().StatusCode() < 200 {
		return nil
	}
	if !c.Response().IsBodyStream() && len(c.Response().Body()) < worthPacking {
		return nil
	}
	c.Vary(fiber.HeaderAcceptEncoding)
	if c.Get(fiber.HeaderAcceptEncoding) != "" && c.AcceptsEncodings("gzip") == "gzip" && c.GetRespHeader(fiber.HeaderContentEncoding) == "" {
		c.Request().Header.Set(fiber.HeaderAcceptEncoding, "gzip") // of several the one that is used here
		deflate(c.RequestCtx())
	}
	return nil
}

// conditional answers 304 to who has what would be answered (RFC 9110 §13). The tag is of
// the revision where there is one, and else of the content.
func conditional(c fiber.Ctx) error {
	if err := c.Next(); err != nil {
		return err
	}
	if c.Response().StatusCode() != fiber.StatusOK || c.Response().IsBodyStream() || c.GetRespHeader(fiber.HeaderETag) != "" {
		return nil
	}
	if unchanged(c, strconv.FormatUint(xxhash.Sum64(c.Response().Body()), 36)) {
		return c.SendStatus(fiber.StatusNotModified)
	}
	return nil
}

// unchanged marks an answer with what tells its state, and says whether who asks has it.
// Tags are weak: the same state may be packed or not.
func unchanged(c fiber.Ctx, state string) bool {
	c.Set(fiber.HeaderETag, `W/"`+state+`"`)
	c.Set(fiber.HeaderCacheControl, "private, no-cache")
	vary := "Accept, Accept-Encoding, Authorization, Cookie"
	if others := c.GetRespHeader(fiber.HeaderVary); others != "" { // as where pages of other origins may ask
		vary = others + ", " + vary
	}
	c.Set(fiber.HeaderVary, vary)
	if !matches(c.Get(fiber.HeaderIfNoneMatch), state) {
		return false
	}
	c.RequestCtx().ResetBody()
	return true
}

// matches tells whether If-None-Match names a state (RFC 9110 §13.1.2). Cache-Control of a
// request is about caches on the way, and fetch sets it whenever it sets this: it decides
// nothing here.
func matches(header, state string) bool {
	for tag := range strings.SplitSeq(header, ",") {
		tag = strings.TrimSpace(tag)
		if tag == "*" || strings.TrimPrefix(tag, "W/") == `"`+state+`"` {
			return true
		}
	}
	return false
}

// paces bounds how often each key may ask. The zero value bounds nothing.
type paces struct {
	each   rate.Limit // requests a second
	burst  int
	policy string // as a header says it

	mu   sync.Mutex
	keys map[string]*rate.Limiter
}

// bursts are how many seconds' worth of requests may come at once.
const bursts = 5

func newPaces(perSecond int) paces {
	return paces{each: rate.Limit(perSecond), burst: bursts * perSecond, policy: fmt.Sprintf(`"key";q=%d;w=%d`, bursts*perSecond, bursts)}
}

// maxPaced is of how many keys it is kept in mind how often they have asked.
const maxPaced = 10_000

// take counts a request of a key, and says how many more may come at once, and in how many
// seconds all may again.
func (p *paces) take(key string, now time.Time) (left int, full time.Duration, ok bool) {
	p.mu.Lock()
	l := p.keys[key]
	if l == nil {
		if p.keys == nil || len(p.keys) >= maxPaced {
			p.keys = map[string]*rate.Limiter{}
		}
		l = rate.NewLimiter(p.each, p.burst)
		p.keys[key] = l
	}
	p.mu.Unlock()
	ok = l.AllowN(now, 1)
	tokens := l.TokensAt(now)
	return max(0, int(tokens)), time.Duration((float64(p.burst) - tokens) / float64(p.each) * float64(time.Second)), ok
}

// pace refuses what a key asks too often, and tells each answer how much is left
// (draft-ietf-httpapi-ratelimit-headers).
func (a *API) pace(c fiber.Ctx) error {
	p := &a.paces
	if p.each <= 0 {
		return c.Next()
	}
	left, full, ok := p.take(operatorOf(c).Key, time.Now())
	c.Set("RateLimit-Policy", p.policy)
	c.Set("RateLimit", `"key";r=`+strconv.Itoa(left)+";t="+strconv.Itoa(int(math.Ceil(full.Seconds()))))
	if !ok {
		c.Set(fiber.HeaderRetryAfter, strconv.Itoa(max(1, int(math.Ceil(1/float64(p.each))))))
		return &wire.Problem{Code: wire.CodeTooFast, Field: "key", Value: operatorOf(c).Key, Detail: "this key asks more often than a key may",
			Allowed: fmt.Sprintf("%d at once, and then %g a second", p.burst, float64(p.each))}
	}
	return c.Next()
}
