package httpapi

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// cookie carries a sign-in of the console. It is of no use to scripts, nor to requests
// that other sites cause.
const cookie = "tovik-console"

// How long a sign-in lasts, and how many there are at once.
const (
	signInLife = 12 * time.Hour
	maxSignIns = 10_000
)

// signIns are the browsers that have signed in to the console, by the hash of what their
// cookie has. They are kept in the records too, so that a restart ends none; where those
// cannot be written, they end with the service.
type signIns struct {
	store *records.Store
	keys  *access.Keyring
	log   *slog.Logger

	mu  sync.Mutex
	all map[[sha256.Size]byte]records.SignIn
}

func newSignIns(store *records.Store, keys *access.Keyring, log *slog.Logger) *signIns {
	s := &signIns{store: store, keys: keys, log: log, all: map[[sha256.Size]byte]records.SignIn{}}
	kept, err := store.SignIns()
	if err != nil {
		log.Warn("sign-ins at the console are not known any more", "error", err)
	}
	for _, one := range kept {
		s.all[[sha256.Size]byte(one.Hash)] = one
	}
	return s
}

func (s *signIns) open(key string, now time.Time) (token string) {
	token = rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(token))
	one := records.SignIn{Hash: hash[:], Proof: s.keys.Prove(token, key), Key: key, Expires: now.Add(signInLife).UnixMilli()}
	s.mu.Lock()
	full := len(s.all) >= maxSignIns
	if full {
		clear(s.all) // everybody signs in again
	}
	s.all[hash] = one
	s.mu.Unlock()
	var err error
	if full {
		err = s.store.DropSignIns()
	}
	if err = errors.Join(err, s.store.AddSignIn(one)); err != nil {
		s.log.Warn("a sign-in at the console will end with the service", "error", err)
	}
	return token
}

// find tells with which key a browser signed in. If the key of this id is another by now,
// as the service's own may be after a restart, the sign-in counts for nothing.
func (s *signIns) find(token string, now time.Time) (key string, ok bool) {
	s.mu.Lock()
	found, ok := s.all[sha256.Sum256([]byte(token))]
	s.mu.Unlock()
	return found.Key, ok && now.UnixMilli() < found.Expires && hmac.Equal(found.Proof, s.keys.Prove(token, found.Key))
}

func (s *signIns) close(token string) {
	hash := sha256.Sum256([]byte(token))
	s.mu.Lock()
	_, known := s.all[hash]
	delete(s.all, hash)
	s.mu.Unlock()
	if !known {
		return
	}
	if err := s.store.RemoveSignIn(hash[:]); err != nil {
		s.log.Warn("a sign-in that was ended may come back with a restart", "error", err)
	}
}

// caller finds out where a request comes from, and who has signed in with its browser.
// A cookie counts for nothing on a request that another site's page has made.
func (a *API) caller(c fiber.Ctx) gateway.Caller {
	caller := a.proxies.CallerOf(c.RequestCtx())
	token := c.Cookies(cookie)
	if token == "" || !ownPage(caller, c.Get("Sec-Fetch-Site")) {
		return caller
	}
	if key, ok := a.signIns.find(token, time.Now()); ok {
		if operator, err := a.keys.Again(key, access.Read); err == nil {
			caller.Operator = &operator
		}
	}
	return caller
}

// ownPage tells whether a request was made by a page of the console or by the browser's
// user: also a page of another origin on the same site sends the cookie. Browsers that
// do not say where a request comes from say at least the origin of what changes something
// (W3C Fetch Metadata).
func ownPage(caller gateway.Caller, site string) bool {
	return (caller.Origin == "" || caller.Own) && (site == "" || site == "same-origin" || site == "none")
}

// operator lets a request pass that carries a key with a role (RFC 6750 §2.1), or comes
// from a browser that has signed in with one. What such a browser changes it must have
// been asked to by a page of the console.
func (a *API) operator(need access.Role) fiber.Handler {
	return func(c fiber.Ctx) error {
		operator, err := a.identify(c, need)
		if err != nil {
			return err
		}
		realm, err := a.realms.Get(operator.Realm)
		if err != nil {
			return err
		}
		c.Locals(operatorLocal{}, operator)
		c.Locals(realmLocal{}, realm)
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.Next()
	}
}

type (
	operatorLocal struct{}
	realmLocal    struct{}
)

func operatorOf(c fiber.Ctx) access.Operator { return c.Locals(operatorLocal{}).(access.Operator) }

func realmOf(c fiber.Ctx) *gateway.Realm { return c.Locals(realmLocal{}).(*gateway.Realm) }

func (a *API) identify(c fiber.Ctx, need access.Role) (access.Operator, error) {
	caller, key := a.caller(c), bearer(c)
	if key == "" && caller.Operator != nil {
		if safe := c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead; !safe && !caller.Own {
			return access.Operator{}, &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(caller.Origin),
				Detail: "a browser that has signed in may change something for a page of the console only", Allowed: "requests of the console, or a key as bearer"}
		}
		return a.keys.Again(caller.Operator.Key, need)
	}
	return a.guard.Check(a.keys, caller.Address, key, need)
}

// root lets the key of the service itself pass, which alone makes realms.
func (a *API) root(c fiber.Ctx) error {
	if !operatorOf(c).Root {
		return &wire.Problem{Code: wire.CodeWrongRole, Field: "key", Detail: "only the key of the service itself may see and change realms", Allowed: "the key in operator.key"}
	}
	return c.Next()
}

// signIn lets a browser sign in with a key, and from then on show a cookie.
func (a *API) signIn(c fiber.Ctx) error {
	var asked wire.SigningIn
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	caller, now := a.caller(c), time.Now()
	if caller.Origin != "" && !caller.Own {
		return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(caller.Origin), Detail: "one signs in at the console only", Allowed: "the service's own origin"}
	}
	operator, err := a.guard.Check(a.keys, caller.Address, asked.Key, access.Read)
	if err != nil {
		return err
	}
	a.setCookie(c, a.signIns.open(operator.Key, now), now.Add(signInLife))
	return fresh(c).JSON(a.whoAmI(operator))
}

// signedIn says who a browser is signed in as, which may be nobody.
func (a *API) signedIn(c fiber.Ctx) error {
	if operator := a.caller(c).Operator; operator != nil {
		return fresh(c).JSON(a.whoAmI(*operator))
	}
	return fresh(c).JSON(a.whoAmI(access.Operator{}))
}

func (a *API) whoAmI(o access.Operator) wire.SignIn {
	who := wire.SignIn{Realm: o.Realm, Key: o.Key, Role: string(o.Role), Practice: a.practiceSecret != ""}
	for _, room := range o.Rooms {
		who.Rooms = append(who.Rooms, string(room))
	}
	return who
}

// signOut ends the sign-in of a browser. Nobody needs to be signed in for that.
func (a *API) signOut(c fiber.Ctx) error {
	if caller := a.caller(c); caller.Origin != "" && !caller.Own {
		return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(caller.Origin), Detail: "one signs out at the console only", Allowed: "the service's own origin"}
	}
	a.signIns.close(c.Cookies(cookie))
	a.setCookie(c, "", time.Unix(1, 0))
	return fresh(c).SendStatus(fiber.StatusNoContent)
}

// setCookie keeps the cookie to https where the page came so, also through a proxy that
// ends TLS, as the page's origin tells.
func (a *API) setCookie(c fiber.Ctx, value string, expires time.Time) {
	secure := c.Protocol() == "https" || strings.HasPrefix(c.Get(fiber.HeaderOrigin), "https://")
	c.Cookie(&fiber.Cookie{Name: cookie, Value: value, Path: "/", Expires: expires, HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: secure})
}
