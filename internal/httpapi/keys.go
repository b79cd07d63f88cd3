package httpapi

import (
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

func (a *API) listKeys(c fiber.Ctx) error {
	list := wire.Keys{Keys: []wire.Key{}}
	for _, kept := range a.keys.OperatorKeys(operatorOf(c)) {
		list.Keys = append(list.Keys, keyDocument(kept))
	}
	return listed(c, list, list.Keys)
}

func keyDocument(k records.OperatorKey) wire.Key {
	doc := wire.Key{ID: k.ID, Realm: k.Realm, Name: k.Name, Role: k.Role, Created: wire.Time{Time: k.Created}, Expires: at(k.Expires), Revoked: at(k.Revoked), LastUsed: at(k.LastUsed)}
	for _, room := range k.Rooms {
		doc.Rooms = append(doc.Rooms, string(room))
	}
	return doc
}

func at(t *time.Time) *wire.Time {
	if t == nil {
		return nil
	}
	return &wire.Time{Time: *t}
}

// addKey makes a key of an operator or back end. Its answer alone has the key itself.
func (a *API) addKey(c fiber.Ctx) error {
	var asked wire.NewKey
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	by, realm := operatorOf(c), realmOf(c).Name
	if asked.Realm != "" && asked.Realm != realm {
		if !by.Root {
			return &wire.Problem{Code: wire.CodeWrongRole, Field: "realm", Value: wire.Shorten(asked.Realm), Detail: "only the key of the service itself makes keys of other realms", Allowed: "the key in operator.key"}
		}
		if _, err := a.realms.Get(asked.Realm); err != nil {
			return err
		}
		realm = asked.Realm
	}
	kept := records.OperatorKey{Realm: realm, Name: asked.Name, Role: asked.Role, Expires: asked.Expires}
	for _, name := range asked.Rooms {
		pattern, err := presence.ParsePattern(name)
		if err != nil {
			return err
		}
		kept.Rooms = append(kept.Rooms, pattern)
	}
	made, key, err := a.keys.AddOperatorKey(&by, kept)
	if err != nil {
		return err
	}
	doc := keyDocument(made)
	doc.Key = key
	return c.Status(fiber.StatusCreated).JSON(doc)
}

func (a *API) revokeKey(c fiber.Ctx) error {
	if err := a.keys.RevokeOperatorKey(operatorOf(c), param(c, "key")); err != nil {
		return err
	}
	a.gateway.Recheck()
	a.RecheckStreams()
	return c.SendStatus(fiber.StatusNoContent)
}

func (a *API) listTokenKeys(c fiber.Ctx) error {
	kept, err := a.keys.TokenKeys(realmOf(c).Name)
	if err != nil {
		return err
	}
	list := wire.TokenKeys{Keys: []wire.TokenKey{}}
	for _, k := range kept {
		doc := tokenKeyDocument(k.TokenKey)
		if doc.Configured = k.Configured; k.Configured {
			doc.Created = nil
		}
		list.Keys = append(list.Keys, doc)
	}
	return listed(c, list, list.Keys)
}

func tokenKeyDocument(k records.TokenKey) wire.TokenKey {
	return wire.TokenKey{ID: k.ID, Realm: k.Realm, Algorithm: k.Algorithm, Issuer: k.Issuer, Audience: k.Audience,
		Created: at(&k.Created), Expires: at(k.Expires), Revoked: at(k.Revoked)}
}

// addTokenKey lets tokens be signed with another key. It takes a public key, or the
// secret of HS256, which no answer repeats.
func (a *API) addTokenKey(c fiber.Ctx) error {
	var asked wire.NewTokenKey
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	kept := records.TokenKey{ID: asked.ID, Realm: realmOf(c).Name, Algorithm: asked.Algorithm, Material: []byte(asked.Key),
		Issuer: asked.Issuer, Audience: asked.Audience, Expires: asked.Expires}
	if err := a.keys.AddTokenKey(kept); err != nil {
		return err
	}
	kept.Created = time.Now()
	return c.Status(fiber.StatusCreated).JSON(tokenKeyDocument(kept))
}

// revokeTokenKey refuses the tokens of a key, also those that were shown before: their
// links are closed.
func (a *API) revokeTokenKey(c fiber.Ctx) error {
	if err := a.keys.RevokeTokenKey(realmOf(c).Name, param(c, "kid")); err != nil {
		return err
	}
	a.gateway.Recheck()
	return c.SendStatus(fiber.StatusNoContent)
}

func (a *API) listRealms(c fiber.Ctx) error {
	list := wire.Realms{Realms: []wire.Realm{}}
	for _, realm := range a.realms.All() {
		list.Realms = append(list.Realms, wire.Realm{Name: realm.Name, Origins: realm.Origins()})
	}
	return listed(c, list, list.Realms)
}

// addRealm makes a realm, with a first key for its operators.
func (a *API) addRealm(c fiber.Ctx) error {
	var asked wire.Realm
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	if err := a.world.AddRealm(asked.Name); err != nil {
		return err
	}
	kept, key, err := a.keys.AddOperatorKey(nil, records.OperatorKey{Realm: asked.Name, Name: "the first key", Role: string(access.Operate)})
	if err != nil {
		return err
	}
	doc := keyDocument(kept)
	doc.Key = key
	return c.Status(fiber.StatusCreated).JSON(wire.NewRealm{Realm: wire.Realm{Name: asked.Name}, FirstKey: doc})
}

func (a *API) removeRealm(c fiber.Ctx) error {
	if err := a.world.RemoveRealm(param(c, "realm")); err != nil {
		return err
	}
	a.RecheckStreams()
	return c.SendStatus(fiber.StatusNoContent)
}
