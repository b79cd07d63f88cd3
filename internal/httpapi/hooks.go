package httpapi

import (
	"context"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/wire"
)

func (a *API) hookDesk(c fiber.Ctx) hooks.Desk { return a.hooks.Desk(deskOf(c).Realm()) }

func (a *API) listHooks(c fiber.Ctx) error {
	list, err := a.hookDesk(c).List(c.Context())
	if err != nil {
		return err
	}
	return listed(c, list, list.Hooks)
}

func (a *API) hook(c fiber.Ctx) error {
	return respond(c)(a.hookDesk(c).Hook(c.Context(), param(c, "hook")))
}

// addHook adds a hook. Only this answer contains its secret.
func (a *API) addHook(c fiber.Ctx) error {
	asked, err := bodyOf[wire.NewHook](c)
	if err != nil {
		return err
	}
	made, err := a.hookDesk(c).Make(asked)
	if err != nil {
		return err
	}
	deskOf(c).Acted(journal.HookAdded, made.ID, made.Name)
	return c.Status(fiber.StatusCreated).JSON(made)
}

// changeHook replaces the settings of a hook.
func (a *API) changeHook(c fiber.Ctx) error {
	asked, err := bodyOf[wire.NewHook](c)
	if err != nil {
		return err
	}
	return a.changed(c)(a.hookDesk(c).Change(param(c, "hook"), asked))
}

// rotateSecret gives a hook a new secret.
func (a *API) rotateSecret(c fiber.Ctx) error {
	return a.changed(c)(a.hookDesk(c).Rotate(param(c, "hook")))
}

// changed answers with a hook that was changed, and notes that in the journal.
func (a *API) changed(c fiber.Ctx) func(wire.Hook, error) error {
	return func(doc wire.Hook, err error) error {
		if err == nil {
			deskOf(c).Acted(journal.HookChanged, doc.ID, doc.Name)
		}
		return respond(c)(doc, err)
	}
}

func (a *API) removeHook(c fiber.Ctx) error {
	err := a.hookDesk(c).Remove(param(c, "hook"))
	if err == nil {
		deskOf(c).Acted(journal.HookRemoved, param(c, "hook"))
	}
	return nothing(c, err)
}

// tryHook sends a test event to a hook, and reports the outcome.
func (a *API) tryHook(c fiber.Ctx) error {
	return respond(c)(a.hookDesk(c).Try(c.Context(), param(c, "hook")))
}

// deliveriesEvery is the shortest interval in which changes of deliveries are told.
const deliveriesEvery = 300 * time.Millisecond

// deliveries lists the deliveries to a hook, newest first.
func (a *API) deliveries(c fiber.Ctx) error {
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	q := hooks.DeliveriesQuery{State: c.Query("state"), Limit: limit}
	if q.Before, err = numberIn(c, "before", 0, 0, everything); err != nil {
		return err
	}
	desk, id := a.hookDesk(c), param(c, "hook")
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		id, q.State = strings.Clone(id), strings.Clone(q.State)
		if _, err := desk.Deliveries(c.Context(), id, q); err != nil {
			return err
		}
		return a.repeat(c, "deliveries", deliveriesEvery, deskOf(c).Written, func(ctx context.Context) (any, time.Duration, error) {
			page, err := desk.Deliveries(ctx, id, q)
			return page, forever, err
		})
	}
	if form != asJSON {
		q.Limit = piece
	}
	page, err := desk.Deliveries(c.Context(), id, q)
	if err != nil || form == asJSON {
		return respond(c)(page, err)
	}
	return export(a, c, form, limit, func(ctx context.Context) (given []wire.Delivery, err error) {
		given, page.Deliveries, q.Before = page.Deliveries, nil, page.Older
		if q.Before != 0 {
			page, err = desk.Deliveries(ctx, id, q)
		}
		return given, err
	})
}

func (a *API) delivery(c fiber.Ctx) error {
	return respond(c)(a.hookDesk(c).Delivery(param(c, "delivery")))
}

// redeliver sends a delivery again, also one that is parked.
func (a *API) redeliver(c fiber.Ctx) error {
	d, err := a.hookDesk(c).Redeliver(c.Context(), param(c, "delivery"))
	if err != nil {
		return err
	}
	return c.Status(fiber.StatusAccepted).JSON(d)
}
