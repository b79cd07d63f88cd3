package httpapi

import (
	"bytes"
	"fmt"
	"math"
	"math/rand/v2"
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

// maxRequestID limits the id that a client gives its request.
const maxRequestID = 64

type requestLocal struct{}

// identifyRequest gives each request an id, or keeps that of the client. The answer, a problem
// and the log repeat it. Fiber's middleware accepts ids of any length.
func identifyRequest(c fiber.Ctx) error {
	id := c.Get(fiber.HeaderXRequestID)
	if id == "" || len(id) > maxRequestID || strings.ContainsFunc(id, func(r rune) bool { return r <= ' ' || r > '~' }) {
		id = strconv.FormatUint(rand.Uint64(), 32)
	}
	c.Locals(requestLocal{}, id)
	set(c, "X-Request-Id", id)
	set(c, fiber.HeaderXContentTypeOptions, "nosniff")
	return c.Next()
}

// set sets a header of the answer. Name has the form that fasthttp gives to names (Http-Header-Name),
// so that it need not give it that form each time.
func set(c fiber.Ctx, name, value string) {
	c.Response().Header.SetCanonical([]byte(name), []byte(value))
}

func requestOf(c fiber.Ctx) string {
	id, _ := c.Locals(requestLocal{}).(string)
	return id
}

// worthPacking is the least number of bytes of an answer that is compressed.
const worthPacking = 1 << 10

// pack compresses an answer with gzip (RFC 9110 §8.4), a long one piece by piece. Fiber's
// middleware would read a stream to its end before it sends anything, and compress short
// answers, too.
var pack = fasthttp.CompressHandlerLevel(func(*fasthttp.RequestCtx) {}, fasthttp.CompressBestSpeed)

func compress(c fiber.Ctx) error {
	if err := c.Next(); err != nil {
		return err
	}
	if bytes.HasPrefix(c.Response().Header.ContentType(), []byte("text/event-stream")) || c.Response().StatusCode() < 200 {
		return nil
	}
	if !c.Response().IsBodyStream() && len(c.Response().Body()) < worthPacking {
		return nil
	}
	c.Vary(fiber.HeaderAcceptEncoding)
	if c.Get(fiber.HeaderAcceptEncoding) != "" && c.AcceptsEncodings("gzip") == "gzip" && c.GetRespHeader(fiber.HeaderContentEncoding) == "" {
		c.Request().Header.Set(fiber.HeaderAcceptEncoding, "gzip") // the one that is used here
		pack(c.RequestCtx())
	}
	return nil
}

// conditional answers 304 if the client already has the answer (RFC 9110 §13). The ETag is the
// revision if there is one, otherwise a hash of the content.
func conditional(c fiber.Ctx) error {
	if err := c.Next(); err != nil {
		return err
	}
	if c.Response().StatusCode() != fiber.StatusOK || c.Response().IsBodyStream() || len(c.Response().Header.Peek("Etag")) > 0 {
		return nil
	}
	if unchanged(c, strconv.FormatUint(xxhash.Sum64(c.Response().Body()), 32)) {
		return c.SendStatus(fiber.StatusNotModified)
	}
	return nil
}

// unchanged sets the ETag of an answer, and reports whether the client has the same one. ETags
// are weak, because the same state may be compressed or not.
func unchanged(c fiber.Ctx, state string) bool {
	set(c, "Etag", `W/"`+state+`"`)
	set(c, fiber.HeaderCacheControl, "private, no-cache")
	vary := "Accept, Accept-Encoding, Authorization, Cookie"
	if others := c.Response().Header.Peek(fiber.HeaderVary); len(others) > 0 { // set by CORS
		vary = string(others) + ", " + vary
	}
	set(c, fiber.HeaderVary, vary)
	if !matches(c.Get(fiber.HeaderIfNoneMatch), state) {
		return false
	}
	c.RequestCtx().ResetBody()
	return true
}

// matches reports whether If-None-Match names an ETag (RFC 9110 §13.1.2). Cache-Control of the
// request is ignored, as [fiber.Ctx.Fresh] does not: it is meant for caches on the way, and
// fetch always sets it together with If-None-Match.
func matches(header, state string) bool {
	for tag := range strings.SplitSeq(header, ",") {
		tag = strings.TrimSpace(tag)
		if tag == "*" || strings.TrimPrefix(tag, "W/") == `"`+state+`"` {
			return true
		}
	}
	return false
}

// paces limits the requests of each key. The zero value has no limit.
type paces struct {
	each   rate.Limit // requests a second
	burst  int
	policy string // as a header says it

	mu   sync.Mutex
	keys map[string]*rate.Limiter
}

// bursts is the burst, in seconds of the rate.
const bursts = 5

func newPaces(perSecond int) paces {
	return paces{each: rate.Limit(perSecond), burst: bursts * perSecond, policy: fmt.Sprintf(`"key";q=%d;w=%d`, bursts*perSecond, bursts)}
}

// maxPaced limits the number of keys whose rate is remembered.
const maxPaced = 10_000

// take counts a request of a key, and returns how many more it may make at once, and after how
// many seconds it may make the whole burst again.
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

// pace refuses requests beyond the rate of the key, and tells each answer what is left
// (draft-ietf-httpapi-ratelimit-headers).
func (a *API) pace(c fiber.Ctx) error {
	key := operatorOf(c).Key
	return a.paced(c, "key", key, key)
}

// paced is pace for a caller, who is named in the error as the value of a field.
func (a *API) paced(c fiber.Ctx, field, value, caller string) error {
	p := &a.paces
	if p.each <= 0 {
		return c.Next()
	}
	left, full, ok := p.take(caller, time.Now())
	set(c, "Ratelimit-Policy", p.policy)
	set(c, "Ratelimit", `"key";r=`+strconv.Itoa(left)+";t="+strconv.Itoa(int(math.Ceil(full.Seconds()))))
	if !ok {
		c.Set(fiber.HeaderRetryAfter, strconv.Itoa(max(1, int(math.Ceil(1/float64(p.each))))))
		return &wire.Problem{Code: wire.CodeTooFast, Field: field, Value: value, Detail: "there are too many requests with this " + field,
			Allowed: fmt.Sprintf("%d at once, and then %g a second", p.burst, float64(p.each))}
	}
	return c.Next()
}
