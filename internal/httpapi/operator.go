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

// cookie is the name of the console's cookie. Scripts cannot read it, and requests caused by
// other sites do not count with it.
const cookie = "tovik-console"

// caller finds out where a request comes from, and who is signed in with its browser. A request
// from a page of another site does not count as signed in.
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

// ownPage reports whether a request comes from a page of the console or from the browser's user.
// The cookie alone does not tell, because a page of another origin on the same site sends it,
// too. Browsers without Fetch Metadata (W3C) send at least the origin of requests that change
// something.
func ownPage(caller realm.Caller, site string) bool {
	return (caller.Origin == "" || caller.Own) && (site == "" || site == "same-origin" || site == "none")
}

// operator accepts requests with a key of a role (RFC 6750 §2.1), or from a browser that is
// signed in with such a key. From a browser, changes must come from a page of the console.
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
		set(c, fiber.HeaderCacheControl, "no-store")
		return of.Answered(c.Next)
	}
}

type (
	operatorLocal struct{}
	deskLocal     struct{}
)

func operatorOf(c fiber.Ctx) access.Operator { return c.Locals(operatorLocal{}).(access.Operator) }

// deskOf returns the realm as seen with the caller's key.
func deskOf(c fiber.Ctx) realm.Desk { return c.Locals(deskLocal{}).(realm.Desk) }

func (a *API) identify(c fiber.Ctx, need access.Role) (access.Operator, error) {
	if key := bearer(c); key != "" {
		return a.guard.Check(a.keys, a.proxies.addressOf(c.RequestCtx()), key, need)
	}
	caller := a.caller(c)
	if caller.Operator == nil {
		return a.guard.Check(a.keys, caller.Address, "", need)
	}
	if safe := c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead; !safe && !caller.Own {
		return access.Operator{}, &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(caller.Origin),
			Detail: "a signed-in browser may change something only from a page of the console", Allowed: "requests of the console, or a key as bearer"}
	}
	return a.keys.Again(caller.Operator.Key, need)
}

// root accepts only the key of the service itself, which alone can create realms.
func (a *API) root(c fiber.Ctx) error {
	if !operatorOf(c).Root {
		return &wire.Problem{Code: wire.CodeWrongRole, Field: "key", Detail: "only the service's own key can see and change realms", Allowed: "the key in operator.key"}
	}
	return c.Next()
}

// signIn signs a browser in with a key, and sets the cookie.
func (a *API) signIn(c fiber.Ctx) error {
	var asked wire.SigningIn
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	caller, now := a.caller(c), time.Now()
	if caller.Origin != "" && !caller.Own {
		return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(caller.Origin), Detail: "sign-in is possible only from the console", Allowed: "the service's own origin"}
	}
	operator, err := a.guard.Check(a.keys, caller.Address, asked.Key, access.Read)
	if err != nil {
		return err
	}
	a.setCookie(c, a.signIns.Open(operator.Key, now), now.Add(access.SignInLife))
	return fresh(c).JSON(a.whoAmI(operator))
}

// signedIn answers who is signed in with the browser, if anybody.
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

// signOut signs the browser out; it need not be signed in.
func (a *API) signOut(c fiber.Ctx) error {
	if caller := a.caller(c); caller.Origin != "" && !caller.Own {
		return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(caller.Origin), Detail: "sign-out is possible only from the console", Allowed: "the service's own origin"}
	}
	a.signIns.Close(c.Cookies(cookie))
	a.setCookie(c, "", time.Unix(1, 0))
	return fresh(c).SendStatus(fiber.StatusNoContent)
}

// setCookie limits the cookie to https if the page was loaded over https, also through a proxy
// that ends TLS; the page's origin tells.
func (a *API) setCookie(c fiber.Ctx, value string, expires time.Time) {
	secure := c.Protocol() == "https" || strings.HasPrefix(c.Get(fiber.HeaderOrigin), "https://")
	c.Cookie(&fiber.Cookie{Name: cookie, Value: value, Path: "/", Expires: expires, HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: secure})
}
