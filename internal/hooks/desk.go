package hooks

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Limits of hooks.
const (
	maxHooks     = 100 // of a realm
	maxURL       = 2048
	maxName      = 128
	mostPeople   = 10_000_000
	oldSecretFor = 24 * time.Hour // requests are also signed with the previous secret for so long
)

// Desk manages the hooks of a realm for operators. What it returns is on record. Its errors are
// problems.
type Desk struct {
	d     *Dispatcher
	realm string
}

// Desk returns the desk of a realm.
func (d *Dispatcher) Desk(realm string) Desk { return Desk{d, realm} }

// List returns the hooks, oldest first, each with the number of its deliveries by state.
func (k Desk) List(ctx context.Context) (wire.Hooks, error) {
	list := wire.Hooks{Hooks: []wire.Hook{}}
	counts, err := k.d.store.CountDeliveries(ctx)
	if err != nil {
		return list, err
	}
	for _, h := range k.d.All(k.realm) {
		doc := hookDocument(&h)
		doc.Deliveries = counts[h.ID]
		list.Hooks = append(list.Hooks, doc)
	}
	return list, nil
}

// Hook returns a hook, with the number of its deliveries by state.
func (k Desk) Hook(ctx context.Context, id string) (wire.Hook, error) {
	h, err := k.find(id)
	if err != nil {
		return wire.Hook{}, err
	}
	counts, err := k.d.store.CountDeliveries(ctx)
	if err != nil {
		return wire.Hook{}, err
	}
	doc := hookDocument(&h)
	doc.Deliveries = counts[h.ID]
	return doc, nil
}

func (k Desk) find(id string) (records.Hook, error) {
	h, err := k.d.Get(k.realm, id)
	if err != nil {
		return h, unknownHook(id)
	}
	return h, nil
}

func unknownHook(id string) error {
	return &wire.Problem{Code: wire.CodeUnknownHook, Field: "hook", Value: wire.Shorten(id), Detail: "the realm has no hook with this id"}
}

// Make adds a hook. Only this document contains its secret.
func (k Desk) Make(asked wire.NewHook) (wire.Hook, error) {
	h := records.Hook{ID: newID(), Realm: k.realm, Secret: NewSecret()}
	if err := k.read(asked, &h); err != nil {
		return wire.Hook{}, err
	}
	if len(k.d.All(k.realm)) >= maxHooks {
		return wire.Hook{}, &wire.Problem{Code: wire.CodeBusy, Detail: "the realm has too many hooks", Allowed: "at most " + strconv.Itoa(maxHooks)}
	}
	if err := k.d.store.PutHook(&h); err != nil {
		return wire.Hook{}, problem.NotRecorded("no hook has been made", err)
	}
	if !k.d.shared { // otherwise the log has told it
		if err := k.d.begin(h); err != nil {
			return wire.Hook{}, err
		}
	}
	doc := hookDocument(&h)
	doc.Secret = h.Secret
	return doc, nil
}

// Change replaces the settings of a hook. Its secret and its waiting deliveries stay.
func (k Desk) Change(id string, asked wire.NewHook) (wire.Hook, error) {
	h, err := k.find(id)
	if err != nil {
		return wire.Hook{}, err
	}
	if err := k.read(asked, &h); err != nil {
		return wire.Hook{}, err
	}
	return k.put(h)
}

// Rotate gives a hook a new secret, which the document contains. For a day requests are signed
// with both.
func (k Desk) Rotate(id string) (wire.Hook, error) {
	h, err := k.find(id)
	if err != nil {
		return wire.Hook{}, err
	}
	h.OldSecret, h.OldUntil = h.Secret, time.Now().Add(oldSecretFor).UnixMilli()
	h.Secret = NewSecret()
	doc, err := k.put(h)
	doc.Secret = h.Secret
	return doc, err
}

func (k Desk) put(h records.Hook) (wire.Hook, error) {
	if err := k.d.store.PutHook(&h); err != nil {
		return wire.Hook{}, problem.NotRecorded("nothing has been changed", err)
	}
	if !k.d.shared {
		if err := k.d.change(h); err != nil {
			return wire.Hook{}, err
		}
	}
	return hookDocument(&h), nil
}

// Remove removes a hook and its waiting deliveries.
func (k Desk) Remove(id string) error {
	h, err := k.find(id)
	if err != nil {
		return err
	}
	if !k.d.shared {
		k.d.remove(h.ID)
	}
	if err := k.d.store.RemoveHook(h.ID); err != nil && !errors.Is(err, records.ErrNotFound) {
		if !k.d.shared {
			_ = k.d.begin(h) // restore it
		}
		return problem.NotRecorded("nothing has been changed", err)
	}
	return nil
}

// read checks the settings of a hook.
func (k Desk) read(asked wire.NewHook, h *records.Hook) error {
	if err := k.checkURL(asked.URL); err != nil {
		return err
	}
	if err := checkKinds(asked); err != nil {
		return err
	}
	for field, bound := range map[string]*int{"above": asked.Above, "below": asked.Below} {
		if bound != nil && (*bound < 0 || *bound > mostPeople) {
			return problem.BadField(field, strconv.Itoa(*bound), "there cannot be so many people", fmt.Sprintf("a whole number from 0 to %d", mostPeople))
		}
	}
	switch asked.View {
	case "":
		asked.View = wire.ViewFull
	case wire.ViewFull, wire.ViewOpen:
	default:
		return problem.BadField("view", asked.View, "unknown view", "full, open")
	}
	if len(asked.Name) > maxName {
		return problem.BadField("name", asked.Name, "the name is too long", "at most 128 bytes")
	}
	if asked.Rooms != nil && len(asked.Rooms) == 0 {
		return problem.BadField("rooms", "[]", "no event would match", "patterns of rooms, or no list for events of all rooms")
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

func checkKinds(asked wire.NewHook) error {
	if len(asked.Kinds) == 0 {
		return problem.BadField("kinds", "", "kinds is required", strings.Join(Kinds, ", "))
	}
	for _, kind := range asked.Kinds {
		switch {
		case !slices.Contains(Kinds, kind):
			return problem.BadField("kinds", kind, "unknown kind of event", strings.Join(Kinds, ", "))
		case len(asked.Rooms) > 0 && WithoutRoom(kind):
			return problem.BadField("rooms", strings.Join(asked.Rooms, ", "), "events of the kind "+kind+" have no room, so none would match", "no rooms with this kind, or a hook of its own for it")
		case kind == HeadcountAbove && asked.Above == nil:
			return problem.BadField("above", "", "above is required for this kind", "a whole number of 0 or more")
		case kind == HeadcountBelow && asked.Below == nil:
			return problem.BadField("below", "", "below is required for this kind", "a whole number of 1 or more")
		}
	}
	return nil
}

// checkURL refuses URLs that can never be reached. The address of a name is checked when it is
// dialled.
func (k Desk) checkURL(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") || u.User != nil || u.Fragment != "" || len(address) > maxURL {
		return problem.BadField("url", address, "invalid address for a hook", "https://HOST/PATH, without a name and password in it")
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil && !k.d.Allows(ip) {
		return problem.BadField("url", address, "the address is in a private network", "a public address, or a service started with --private-hooks")
	}
	return nil
}

// Try sends a hook an event of the kind hook.test, and returns the outcome.
func (k Desk) Try(ctx context.Context, id string) (wire.Delivery, error) {
	tried, err := k.d.try(ctx, k.realm, id)
	if err != nil {
		return wire.Delivery{}, unknownHook(id)
	}
	return deliveryWithBody(&tried), nil
}

// DeliveriesQuery selects deliveries of a hook, newest first.
type DeliveriesQuery struct {
	State  string // waiting, delivered, parked; empty: all
	Before int64  // only those before this id; 0: all
	Limit  int
}

// Deliveries returns the deliveries of a hook.
func (k Desk) Deliveries(ctx context.Context, id string, q DeliveriesQuery) (wire.Deliveries, error) {
	doc := wire.Deliveries{Deliveries: []wire.Delivery{}}
	h, err := k.find(id)
	if err != nil {
		return doc, err
	}
	if q.State != "" && q.State != records.Waiting && q.State != records.Delivered && q.State != records.Parked {
		return doc, problem.BadField("state", q.State, "unknown state of a delivery", "waiting, delivered, parked")
	}
	page, err := k.d.store.Deliveries(ctx, h.ID, q.State, q.Before, q.Limit+1)
	if err != nil {
		return doc, err
	}
	for i := range page[:min(q.Limit, len(page))] {
		doc.Deliveries = append(doc.Deliveries, deliveryDocument(&page[i]))
	}
	if len(page) > q.Limit {
		doc.Older = page[q.Limit-1].ID
	}
	return doc, nil
}

// Delivery returns a delivery with its body.
func (k Desk) Delivery(id string) (wire.Delivery, error) {
	d, err := k.delivery(id)
	if err != nil {
		return wire.Delivery{}, err
	}
	return deliveryWithBody(&d), nil
}

func (k Desk) delivery(id string) (records.Delivery, error) {
	unknown := &wire.Problem{Code: wire.CodeUnknownDelivery, Field: "delivery", Value: wire.Shorten(id), Detail: "there is no delivery with this id"}
	number, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return records.Delivery{}, unknown
	}
	d, err := k.d.store.Delivery(number)
	if errors.Is(err, records.ErrNotFound) {
		return d, unknown
	}
	if err != nil {
		return d, err
	}
	if _, err := k.d.Get(k.realm, d.Hook); err != nil {
		return d, unknown
	}
	return d, nil
}

// Redeliver sends a delivery again, also one that is parked.
func (k Desk) Redeliver(ctx context.Context, id string) (wire.Delivery, error) {
	d, err := k.delivery(id)
	if err != nil {
		return wire.Delivery{}, err
	}
	if d.State == records.Waiting {
		return wire.Delivery{}, &wire.Problem{Code: wire.CodeExists, Field: "delivery", Value: wire.Shorten(id), Detail: "the delivery is already waiting"}
	}
	switch err := k.d.again(ctx, d); {
	case errors.Is(err, errNoHook):
		return wire.Delivery{}, unknownHook(d.Hook)
	case err != nil:
		return wire.Delivery{}, problem.NotRecorded("it is delivered again, unless the service ends before the records can be written", err)
	}
	d.State, d.Attempts = records.Waiting, 0
	return deliveryDocument(&d), nil
}

func hookDocument(h *records.Hook) wire.Hook {
	doc := wire.Hook{ID: h.ID, Name: h.Name, URL: h.URL, Kinds: h.Kinds, View: h.View, Above: h.Above, Below: h.Below, Paused: h.Paused,
		Created: wire.Time{Time: time.UnixMilli(h.Created)}}
	for _, room := range h.Rooms {
		doc.Rooms = append(doc.Rooms, string(room))
	}
	if h.OldSecret != "" && h.OldUntil > time.Now().UnixMilli() {
		doc.OldSecretUntil = wire.TimeOf(h.OldUntil)
	}
	return doc
}

func deliveryDocument(d *records.Delivery) wire.Delivery {
	return wire.Delivery{ID: d.ID, Hook: d.Hook, Kind: d.Kind, Event: d.Event, State: d.State, Attempts: d.Attempts,
		Created: wire.Time{Time: time.UnixMilli(d.Created)}, Tried: wire.TimeOf(d.Tried), Due: wire.TimeOf(d.Due),
		Answered: d.Answered, Answer: d.Answer, Error: d.Error, Took: d.Took}
}

func deliveryWithBody(d *records.Delivery) wire.Delivery {
	doc := deliveryDocument(d)
	doc.Body = string(d.Body)
	return doc
}
