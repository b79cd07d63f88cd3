package httpapi

import (
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/wire"
)

func (a *API) listKeys(c fiber.Ctx) error {
	list := a.keys.OperatorKeys(operatorOf(c))
	return listed(c, list, list.Keys)
}

// addKey creates a key for an operator or a back end. Only this answer contains the key itself.
func (a *API) addKey(c fiber.Ctx) error {
	asked, err := bodyOf[wire.NewKey](c)
	if err != nil {
		return err
	}
	by, realm := operatorOf(c), deskOf(c).Realm()
	if asked.Realm != "" && asked.Realm != realm {
		if !by.Root {
			return &wire.Problem{Code: wire.CodeWrongRole, Field: "realm", Value: wire.Shorten(asked.Realm), Detail: "only the service's own key can make keys of other realms", Allowed: "the key in operator.key"}
		}
		if _, err := a.realms.Get(asked.Realm); err != nil {
			return err
		}
		realm = asked.Realm
	}
	made, err := a.keys.AddOperatorKey(&by, realm, asked)
	if err != nil {
		return err
	}
	if of, err := a.realms.Get(realm); err == nil {
		of.Desk(by).Acted(journal.KeyAdded, made.ID, made.Name)
	}
	return c.Status(fiber.StatusCreated).JSON(made)
}

func (a *API) revokeKey(c fiber.Ctx) error {
	if err := a.keys.RevokeOperatorKey(operatorOf(c), param(c, "key")); err != nil {
		return err
	}
	deskOf(c).Acted(journal.KeyRevoked, param(c, "key"))
	a.gateway.Recheck()
	a.RecheckStreams()
	return c.SendStatus(fiber.StatusNoContent)
}

func (a *API) listTokenKeys(c fiber.Ctx) error {
	list, err := a.keys.TokenKeys(deskOf(c).Realm())
	if err != nil {
		return err
	}
	return listed(c, list, list.Keys)
}

// addTokenKey adds a key that verifies tokens. No answer contains it.
func (a *API) addTokenKey(c fiber.Ctx) error {
	asked, err := bodyOf[wire.NewTokenKey](c)
	if err != nil {
		return err
	}
	made, err := a.keys.AddTokenKey(deskOf(c).Realm(), asked)
	if err != nil {
		return err
	}
	deskOf(c).Acted(journal.TokenKeyAdded, made.ID)
	return c.Status(fiber.StatusCreated).JSON(made)
}

// revokeTokenKey revokes a key that verifies tokens, and closes the links that were opened with
// its tokens.
func (a *API) revokeTokenKey(c fiber.Ctx) error {
	if err := a.keys.RevokeTokenKey(deskOf(c).Realm(), param(c, "kid")); err != nil {
		return err
	}
	deskOf(c).Acted(journal.TokenKeyRevoked, param(c, "kid"))
	a.gateway.Recheck()
	return c.SendStatus(fiber.StatusNoContent)
}

func (a *API) listRealms(c fiber.Ctx) error {
	list := wire.Realms{Realms: []wire.Realm{}}
	for _, realm := range a.realms.All() {
		list.Realms = append(list.Realms, wire.Realm{Name: realm.Name(), Origins: realm.Origins()})
	}
	return listed(c, list, list.Realms)
}

// addRealm creates a realm with its first operator key.
func (a *API) addRealm(c fiber.Ctx) error {
	asked, err := bodyOf[wire.Realm](c)
	if err != nil {
		return err
	}
	if err := a.world.AddRealm(asked.Name); err != nil {
		return err
	}
	first, err := a.keys.AddOperatorKey(nil, asked.Name, wire.NewKey{Name: "the first key", Role: string(access.Operate)})
	if err != nil {
		return err
	}
	return c.Status(fiber.StatusCreated).JSON(wire.NewRealm{Realm: wire.Realm{Name: asked.Name}, FirstKey: first})
}

func (a *API) removeRealm(c fiber.Ctx) error {
	if err := a.world.RemoveRealm(param(c, "realm")); err != nil {
		return err
	}
	a.RecheckStreams()
	return c.SendStatus(fiber.StatusNoContent)
}
