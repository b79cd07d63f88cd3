package httpapi

import (
	"context"
	"errors"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// Bounds of hooks.
const (
	maxHooks     = 100 // of a realm
	maxURL       = 2048
	oldSecretFor = 24 * time.Hour // for which requests are signed with the secret before, too
)

// milliseconds is a time that is kept so; nil for none.
func milliseconds(at int64) *wire.Time {
	if at == 0 {
		return nil
	}
	return &wire.Time{Time: time.UnixMilli(at)}
}

func hookDocument(h *records.Hook) wire.Hook {
	doc := wire.Hook{ID: h.ID, Name: h.Name, URL: h.URL, Kinds: h.Kinds, View: h.View, Above: h.Above, Below: h.Below, Paused: h.Paused,
		Created: wire.Time{Time: time.UnixMilli(h.Created)}}
	for _, room := range h.Rooms {
		doc.Rooms = append(doc.Rooms, string(room))
	}
	if h.OldSecret != "" && h.OldUntil > time.Now().UnixMilli() {
		doc.OldSecretUntil = milliseconds(h.OldUntil)
	}
	return doc
}

func (a *API) listHooks(c fiber.Ctx) error {
	counts, err := a.store.CountDeliveries(c.Context())
	if err != nil {
		return err
	}
	list := wire.Hooks{Hooks: []wire.Hook{}}
	for _, h := range a.hooks.All(realmOf(c).Name) {
		doc := hookDocument(&h)
		doc.Deliveries = counts[h.ID]
		list.Hooks = append(list.Hooks, doc)
	}
	return listed(c, list, list.Hooks)
}

// hookOf finds the hook of the address.
func (a *API) hookOf(c fiber.Ctx) (records.Hook, error) {
	h, err := a.hooks.Get(realmOf(c).Name, param(c, "hook"))
	if err != nil {
		return h, unknownHook(param(c, "hook"))
	}
	return h, nil
}

func unknownHook(id string) error {
	return &wire.Problem{Code: wire.CodeUnknownHook, Field: "hook", Value: wire.Shorten(id), Detail: "the realm has no hook of this id"}
}

func (a *API) hook(c fiber.Ctx) error {
	h, err := a.hookOf(c)
	if err != nil {
		return err
	}
	counts, err := a.store.CountDeliveries(c.Context())
	if err != nil {
		return err
	}
	doc := hookDocument(&h)
	doc.Deliveries = counts[h.ID]
	return c.JSON(doc)
}

// addHook makes a hook. The answer alone has its secret.
func (a *API) addHook(c fiber.Ctx) error {
	h := records.Hook{ID: hooks.NewID(), Realm: realmOf(c).Name, Secret: hooks.NewSecret()}
	if err := a.readHook(c, &h); err != nil {
		return err
	}
	if len(a.hooks.All(h.Realm)) >= maxHooks {
		return &wire.Problem{Code: wire.CodeBusy, Detail: "the realm has as many hooks as it may", Allowed: "at most " + strconv.Itoa(maxHooks)}
	}
	if err := a.store.PutHook(&h); err != nil {
		return gateway.NotRecorded("no hook has been made", err)
	}
	if err := a.hooks.Add(h); err != nil {
		return err
	}
	doc := hookDocument(&h)
	doc.Secret = h.Secret
	return c.Status(fiber.StatusCreated).JSON(doc)
}

// changeHook says anew what a hook is; its secret and what waits for it stay.
func (a *API) changeHook(c fiber.Ctx) error {
	h, err := a.hookOf(c)
	if err != nil {
		return err
	}
	if err := a.readHook(c, &h); err != nil {
		return err
	}
	return a.putHook(c, h, "")
}

func (a *API) putHook(c fiber.Ctx, h records.Hook, secret string) error {
	if err := a.store.PutHook(&h); err != nil {
		return gateway.NotRecorded("nothing has been changed", err)
	}
	if err := a.hooks.Change(h); err != nil {
		return err
	}
	doc := hookDocument(&h)
	doc.Secret = secret
	return c.JSON(doc)
}

// rotateSecret gives a hook another secret. For a day requests are signed with both.
func (a *API) rotateSecret(c fiber.Ctx) error {
	h, err := a.hookOf(c)
	if err != nil {
		return err
	}
	h.OldSecret, h.OldUntil = h.Secret, time.Now().Add(oldSecretFor).UnixMilli()
	h.Secret = hooks.NewSecret()
	return a.putHook(c, h, h.Secret)
}

func (a *API) removeHook(c fiber.Ctx) error {
	h, err := a.hookOf(c)
	if err != nil {
		return err
	}
	a.hooks.Remove(h.ID)
	if err := a.store.RemoveHook(h.ID); err != nil && !errors.Is(err, records.ErrNotFound) {
		_ = a.hooks.Add(h) // as it was
		return gateway.NotRecorded("nothing has been changed", err)
	}
	return c.SendStatus(fiber.StatusNoContent)
}

// readHook checks what a hook is to be.
func (a *API) readHook(c fiber.Ctx, h *records.Hook) error {
	var asked wire.NewHook
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	if err := a.checkURL(asked.URL); err != nil {
		return err
	}
	if len(asked.Kinds) == 0 {
		return badField("kinds", "", "kinds is required", strings.Join(hooks.Kinds, ", "))
	}
	for _, kind := range asked.Kinds {
		if !slices.Contains(hooks.Kinds, kind) {
			return badField("kinds", kind, "there are no events of this kind", strings.Join(hooks.Kinds, ", "))
		}
		if len(asked.Rooms) > 0 && hooks.OfPeople(kind) {
			return badField("rooms", strings.Join(asked.Rooms, ", "), "events of the kind "+kind+" are about people, not about rooms, so none would match", "no rooms with this kind, or a hook of its own for it")
		}
		if kind == hooks.HeadcountAbove && asked.Above == nil {
			return badField("above", "", "above is required for this kind", "a whole number of 0 or more")
		}
		if kind == hooks.HeadcountBelow && asked.Below == nil {
			return badField("below", "", "below is required for this kind", "a whole number of 1 or more")
		}
	}
	for field, bound := range map[string]*int{"above": asked.Above, "below": asked.Below} {
		if bound != nil && (*bound < 0 || *bound > 10_000_000) {
			return badField(field, strconv.Itoa(*bound), "there cannot be so many people", "a whole number from 0 to 10000000")
		}
	}
	switch asked.View {
	case "":
		asked.View = wire.ViewFull
	case wire.ViewFull, wire.ViewOpen:
	default:
		return badField("view", asked.View, "there is no such view", "full, open")
	}
	if len(asked.Name) > 128 {
		return badField("name", asked.Name, "the name is too long", "at most 128 bytes")
	}
	h.Rooms = nil
	for _, name := range asked.Rooms {
		pattern, err := presence.ParsePattern(name)
		if err != nil {
			return err
		}
		h.Rooms = append(h.Rooms, pattern)
	}
	h.Name, h.URL, h.Kinds, h.View, h.Above, h.Below, h.Paused = asked.Name, asked.URL, asked.Kinds, asked.View, asked.Above, asked.Below, asked.Paused
	return nil
}

// checkURL refuses early what could never be reached. What a name stands for is looked
// at when it is dialled.
func (a *API) checkURL(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") || u.User != nil || u.Fragment != "" || len(address) > maxURL {
		return badField("url", address, "hooks cannot be told at this address", "https://HOST/PATH, without a name and password in it")
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil && !a.hooks.Allows(ip) {
		return badField("url", address, "this is an address of an inner network", "one that is reached from everywhere, or a service started with --private-hooks")
	}
	return nil
}

// tryHook sends a hook an event of the kind hook.test, and says what came of it.
func (a *API) tryHook(c fiber.Ctx) error {
	h, err := a.hookOf(c)
	if err != nil {
		return err
	}
	tried, err := a.hooks.Try(c.Context(), h.Realm, h.ID)
	if err != nil {
		return unknownHook(h.ID)
	}
	doc := deliveryDocument(&tried)
	doc.Body = string(tried.Body)
	return c.JSON(doc)
}

func deliveryDocument(d *records.Delivery) wire.Delivery {
	return wire.Delivery{ID: d.ID, Hook: d.Hook, Kind: d.Kind, Event: d.Event, State: d.State, Attempts: d.Attempts,
		Created: wire.Time{Time: time.UnixMilli(d.Created)}, Tried: milliseconds(d.Tried), Due: milliseconds(d.Due),
		Answered: d.Answered, Answer: d.Answer, Error: d.Error, Took: d.Took}
}

// deliveries lists what a hook was told, and is to be, the newest first.
func (a *API) deliveries(c fiber.Ctx) error {
	h, err := a.hookOf(c)
	if err != nil {
		return err
	}
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	before, err := numberIn(c, "before", 0, 0, 1<<53)
	if err != nil {
		return err
	}
	state := c.Query("state")
	if state != "" && state != records.Waiting && state != records.Delivered && state != records.Parked {
		return badField("state", state, "deliveries have no such state", "waiting, delivered, parked")
	}
	if form, _ := formIn(c, asJSON, asNDJSON, asCSV); form != asJSON {
		return export(a, c, form, limit, func(ctx context.Context) ([]wire.Delivery, error) {
			page, err := a.store.Deliveries(ctx, h.ID, state, before, piece)
			list := make([]wire.Delivery, len(page))
			for i := range page {
				list[i], before = deliveryDocument(&page[i]), page[i].ID
			}
			return list, err
		})
	}
	page, err := a.store.Deliveries(c.Context(), h.ID, state, before, limit+1)
	if err != nil {
		return err
	}
	doc := wire.Deliveries{Deliveries: []wire.Delivery{}}
	for i := range page[:min(limit, len(page))] {
		doc.Deliveries = append(doc.Deliveries, deliveryDocument(&page[i]))
	}
	if len(page) > limit {
		doc.Older = page[limit-1].ID
	}
	return c.JSON(doc)
}

// deliveryOf finds the delivery of the address.
func (a *API) deliveryOf(c fiber.Ctx) (records.Delivery, error) {
	unknown := &wire.Problem{Code: wire.CodeUnknownDelivery, Field: "delivery", Value: wire.Shorten(param(c, "delivery")), Detail: "there is no delivery of this id"}
	id, err := strconv.ParseInt(param(c, "delivery"), 10, 64)
	if err != nil {
		return records.Delivery{}, unknown
	}
	d, err := a.store.Delivery(id)
	if errors.Is(err, records.ErrNotFound) {
		return d, unknown
	}
	if err != nil {
		return d, err
	}
	if _, err := a.hooks.Get(realmOf(c).Name, d.Hook); err != nil {
		return d, unknown
	}
	return d, nil
}

func (a *API) delivery(c fiber.Ctx) error {
	d, err := a.deliveryOf(c)
	if err != nil {
		return err
	}
	doc := deliveryDocument(&d)
	doc.Body = string(d.Body)
	return c.JSON(doc)
}

// redeliver tells a hook once more what it was told, or what is parked.
func (a *API) redeliver(c fiber.Ctx) error {
	d, err := a.deliveryOf(c)
	if err != nil {
		return err
	}
	if d.State == records.Waiting {
		return &wire.Problem{Code: wire.CodeExists, Field: "delivery", Value: param(c, "delivery"), Detail: "it is waiting to be delivered already"}
	}
	if err := a.hooks.Again(d); err != nil {
		return unknownHook(d.Hook)
	}
	if err := a.writer.Sync(c.Context()); err != nil {
		return gateway.NotRecorded("it is delivered again, unless the service ends before the records can be written", err)
	}
	d.State, d.Attempts = records.Waiting, 0
	return c.Status(fiber.StatusAccepted).JSON(deliveryDocument(&d))
}
