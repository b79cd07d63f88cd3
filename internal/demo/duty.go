package demo

import (
	"context"
	"io"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// onDuty lists who is expected where: the steady people of two rooms, and one more who is
// elsewhere tonight.
func onDuty(people []character) map[presence.RoomName][]string {
	duty := map[presence.RoomName][]string{"desk.night": nil, "sluice.mill-lane": nil}
	for _, who := range people {
		if list, has := duty[who.rooms[0]]; has && who.steady {
			duty[who.rooms[0]] = append(list, string(who.user))
		}
	}
	for room, list := range duty {
		duty[room] = append(list, "e-96")
	}
	return duty
}

// siren is the stand-in for a service of the watch that is told when a room fills and
// empties. Now and then it is not well.
func siren() http.Handler {
	var calls atomic.Int64
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		if calls.Add(1)%9 == 4 {
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = io.WriteString(w, "the siren is being tested")
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
}

// keepWatch declares the rooms with people on duty, and sends events of the desk to the siren
// until ctx ends.
func keepWatch(ctx context.Context, o Options, people []character) {
	api := client.API{Server: o.Server, Key: o.Key}
	for room, expected := range onDuty(people) {
		if _, err := api.Declare(ctx, string(room), expected); err != nil && ctx.Err() == nil {
			o.Log.Warn("declaring a room failed", "room", room, "error", err)
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		o.Log.Warn("the siren cannot listen", "error", err)
		return
	}
	service := &http.Server{Handler: siren(), ReadHeaderTimeout: time.Second}
	go func() {
		<-ctx.Done()
		_ = service.Close()
	}()
	if err := tellSiren(ctx, api, "http://"+listener.Addr().String()+"/siren"); err != nil && ctx.Err() == nil {
		o.Log.Warn("adding the hook of the siren failed", "error", err)
	}
	_ = service.Serve(listener)
}

// sirenHook is what the siren is told.
var sirenHook = wire.NewHook{Name: "siren", Kinds: []string{"member.joined", "member.left", "room.empty"}, Rooms: []string{"desk.*"}, View: wire.ViewOpen}

// tellSiren adds the siren's hook, or gives the hook of an earlier night the siren's new
// address.
func tellSiren(ctx context.Context, api client.API, address string) error {
	wanted := sirenHook
	wanted.URL = address
	hooks, err := api.Hooks(ctx)
	if err != nil {
		return err
	}
	for _, hook := range hooks.Hooks {
		if hook.Name == wanted.Name {
			_, err := api.ChangeHook(ctx, hook.ID, wanted)
			return err
		}
	}
	_, err = api.AddHook(ctx, wanted)
	return err
}
