package demo

import (
	"context"
	"math"
	"math/rand/v2"
	"sync"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Where people meet: at the handover, which asks and engages, and in calls, which engage.
const (
	handover = "desk.handover"
	upstream = "call.upstream"
)

// gauge is a device that says how high the water is.
var gauge = character{user: "gauge-upper-weir", profile: presence.Profile{Name: "Gauge at the upper weir"}, rooms: []presence.RoomName{Visiting}}

// mostMeeting is how many people the meetings take: two for handovers, and two for calls.
const mostMeeting = 4

// meet plays the meetings of the night until ctx ends: a gauge that reads the level, handovers at
// the desk, and calls upstream. Those who meet have a page for it besides their others.
func meet(ctx context.Context, o Options, people []character) {
	var all sync.WaitGroup
	defer all.Wait()
	all.Go(func() { readGauge(ctx, o) })
	if len(people) < mostMeeting {
		return
	}
	all.Go(func() { handOver(ctx, o, people[5%len(people)], people[1], rand.New(rand.NewPCG(o.Seed, 1))) })
	all.Go(func() { callUpstream(ctx, o, people[2], people[3], rand.New(rand.NewPCG(o.Seed, 2))) })
}

// page is a page for meetings.
type page struct {
	*client.Link
	invited chan wire.Invitation
	asked   chan wire.Ask
}

// openPage opens a page of a person. It returns nil if ctx ends before.
func openPage(ctx context.Context, o Options, who character, device string, grants wire.Grants, rooms ...string) *page {
	for ; ctx.Err() == nil; pause(ctx, time.Second) {
		token, err := client.Token{User: string(who.user), Name: who.profile.Name, Grants: grants}.Sign(o.Secret)
		if err != nil {
			return nil
		}
		p := &page{invited: make(chan wire.Invitation, 1), asked: make(chan wire.Ask, 1)} // the next one is as good
		p.Link, err = client.Dial(ctx, client.Options{
			Server: o.Server, Token: token, Rooms: append([]string{}, rooms...), Device: device,
			OnInvitations: func(all wire.Invitations) {
				if len(all.Received) > 0 {
					give(p.invited, all.Received[0])
				}
			},
			OnAsks: func(asks wire.AsksFrame) {
				if len(asks.Asks) > 0 {
					give(p.asked, asks.Asks[0])
				}
			},
		})
		if err == nil {
			return p
		}
		o.Log.Debug("opening a page for a meeting failed", "user", who.user, "error", err)
	}
	return nil
}

func give[T any](to chan T, what T) {
	select {
	case to <- what:
	default:
	}
}

// await returns the next of a channel, and false if it does not come in time.
func await[T any](ctx context.Context, from chan T) (what T, ok bool) {
	select {
	case what = <-from:
		return what, true
	case <-ctx.Done():
	case <-time.After(30 * time.Second):
	}
	return what, false
}

// readGauge says the level every two seconds: it rises and falls with the night.
func readGauge(ctx context.Context, o Options) {
	for ctx.Err() == nil {
		p := openPage(ctx, o, gauge, "device", wire.Grants{Rooms: []string{Visiting}}, Visiting)
		for n := 0; p != nil && ctx.Err() == nil; n++ {
			level := math.Round(231+12*math.Sin(float64(n)/20)) / 100
			if p.Doing(ctx, Visiting, map[string]any{"level": level, "unit": "m"}) != nil {
				break
			}
			pause(ctx, 2*time.Second)
		}
		p.end()
	}
}

func (p *page) end() {
	if p != nil {
		p.Close()
	}
}

// handOver plays handovers: the engineer opens the room, the other one asks to be let in and is,
// and both are busy meanwhile.
func handOver(ctx context.Context, o Options, engineer, other character, random *rand.Rand) {
	for ctx.Err() == nil {
		host := openPage(ctx, o, engineer, "tablet", wire.Grants{Rooms: []string{handover}, Admit: []string{handover}}, handover)
		guest := openPage(ctx, o, other, "phone", wire.Grants{Rooms: []string{handover}}, handover)
		if ask, ok := awaitAsk(ctx, host); ok {
			pause(ctx, between(random, 4*time.Second, 9*time.Second))
			_ = host.Admit(ctx, ask.Ask) // it may have ended
			_ = host.Doing(ctx, handover, map[string]string{"page": "night log"})
			pause(ctx, between(random, 15*time.Second, 25*time.Second))
		}
		for _, p := range []*page{guest, host} {
			if p != nil {
				_ = p.Bye(ctx)
			}
		}
		// The next guest asks anew.
		_ = client.API{Server: o.Server, Key: o.Key}.RevokePass(ctx, handover, string(other.user))
		pause(ctx, between(random, 20*time.Second, 35*time.Second))
	}
}

func awaitAsk(ctx context.Context, p *page) (wire.Ask, bool) {
	if p == nil {
		return wire.Ask{}, false
	}
	return await(ctx, p.asked)
}

// callUpstream plays calls: one invites the other, who accepts or declines; after a while both
// hang up.
func callUpstream(ctx context.Context, o Options, caller, called character, random *rand.Rand) {
	grants := wire.Grants{Rooms: []string{"call.*"}, Invite: []string{"call.*"}, People: []string{"*"}}
	for ctx.Err() == nil {
		pause(ctx, between(random, 5*time.Second, 15*time.Second))
		one, two := openPage(ctx, o, caller, "phone", grants), openPage(ctx, o, called, "phone", grants)
		if one != nil && two != nil {
			call(ctx, one, two, string(called.user), random)
		}
		for _, p := range []*page{one, two} {
			if p != nil {
				_ = p.Bye(ctx)
			}
		}
		pause(ctx, between(random, 15*time.Second, 30*time.Second))
	}
}

func call(ctx context.Context, one, two *page, called string, random *rand.Rand) {
	if _, err := one.Invite(ctx, called, upstream); err != nil {
		return // they are engaged or have set busy
	}
	invitation, ok := await(ctx, two.invited)
	if !ok {
		return
	}
	pause(ctx, between(random, 4*time.Second, 8*time.Second))
	if random.IntN(4) == 0 {
		_ = two.Decline(ctx, invitation.Invitation)
		return
	}
	if _, err := two.Accept(ctx, invitation.Invitation); err != nil {
		return
	}
	_ = one.Join(ctx, upstream)
	pause(ctx, between(random, 12*time.Second, 25*time.Second))
}

func between(random *rand.Rand, least, most time.Duration) time.Duration {
	return least + time.Duration(random.Int64N(int64(most-least)))
}
