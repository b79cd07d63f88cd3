package httpapi

import (
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// cookie carries a sign-in of the console. It is of no use to scripts, nor to requests
// that other sites cause.
const cookie = "tovik-console"

// caller finds out where a request comes from, and who has signed in with its browser.
// A cookie counts for nothing on a request that another site's page has made.
func (a *API) caller(c fiber.Ctx) realm.Caller {
	caller := a.proxies.callerOf(c.RequestCtx())
	token := c.Cookies(cookie)
	if token == "" || !ownPage(caller, c.Get("Sec-Fetch-Site")) {
		return caller
	}
	if key, ok := a.signIns.Find(token, time.Now()); ok {
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
func ownPage(caller realm.Caller, site string) bool {
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
		of, err := a.realms.Get(operator.Realm)
		if err != nil {
			return err
		}
		c.Locals(operatorLocal{}, operator)
		c.Locals(deskLocal{}, of.Desk(operator))
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.Next()
	}
}

type (
	operatorLocal struct{}
	deskLocal     struct{}
)

func operatorOf(c fiber.Ctx) access.Operator { return c.Locals(operatorLocal{}).(access.Operator) }

// deskOf is the realm as the key that was shown sees it.
func deskOf(c fiber.Ctx) realm.Desk { return c.Locals(deskLocal{}).(realm.Desk) }

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
	a.setCookie(c, a.signIns.Open(operator.Key, now), now.Add(access.SignInLife))
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
	a.signIns.Close(c.Cookies(cookie))
	a.setCookie(c, "", time.Unix(1, 0))
	return fresh(c).SendStatus(fiber.StatusNoContent)
}

// setCookie keeps the cookie to https where the page came so, also through a proxy that
// ends TLS, as the page's origin tells.
func (a *API) setCookie(c fiber.Ctx, value string, expires time.Time) {
	secure := c.Protocol() == "https" || strings.HasPrefix(c.Get(fiber.HeaderOrigin), "https://")
	c.Cookie(&fiber.Cookie{Name: cookie, Value: value, Path: "/", Expires: expires, HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: secure})
}
