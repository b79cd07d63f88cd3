package realm

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/timing"
	"tovik.example/tovik/wire"
)

// TimingQuery asks what the journal says about timings.
type TimingQuery struct {
	From, To time.Time
	Room     string   // a pattern; empty: all rooms
	Tries    []string // of another policy, as in grace.lost=20s
}

// TimingStudy is a checked [TimingQuery].
type TimingStudy struct {
	desk  Desk
	q     TimingQuery
	room  presence.Pattern
	force presence.Policy
	tried *presence.Policy
}

// Timing checks a query. Its study takes a while; in a realm one runs after another.
func (d Desk) Timing(q TimingQuery) (*TimingStudy, error) {
	s := &TimingStudy{desk: d, q: q, force: *d.realm.Policy()}
	if err := d.WholeRealm(); err != nil {
		return nil, err
	}
	if q.Room != "" {
		var err error
		if s.room, err = presence.ParsePattern(q.Room); err != nil {
			return nil, err
		}
	}
	if len(q.Tries) > 0 {
		tried := s.force
		for _, one := range q.Tries {
			key, value, ok := strings.Cut(one, "=")
			if !ok {
				return nil, problem.BadField("try", wire.Shorten(one), "this tries nothing", "KEY=VALUE, as in grace.lost=20s")
			}
			if err := timing.Try(&tried, key, value); err != nil {
				return nil, problem.BadField("try", wire.Shorten(one), "this cannot be tried", err.Error())
			}
		}
		s.tried = &tried
	}
	return s, nil
}

// Run reads the journal and plays it again. It tells its progress, from 0 to 1.
func (s *TimingStudy) Run(ctx context.Context, progress func(float64)) (wire.Timing, error) {
	r := s.desk.realm
	select {
	case r.studying <- struct{}{}:
		defer func() { <-r.studying }()
	case <-ctx.Done():
		return wire.Timing{}, ctx.Err()
	}
	began := time.Now()
	r.catchUp(ctx)
	study := timing.NewStudy(&s.force, s.room)
	inForce := timing.NewReplay(s.force, s.force, s.room)
	tried := inForce
	if s.tried != nil {
		tried = timing.NewReplay(s.force, *s.tried, s.room)
	}
	err := r.store.EachMove(ctx, r.name, s.q.From, s.q.To, progress, func(e *journal.Entry) {
		study.Take(e)
		if inForce.Take(e); s.tried != nil {
			tried.Take(e)
		}
	})
	if err != nil {
		return wire.Timing{}, err
	}
	typings, err := r.store.Typings(ctx, r.name, s.q.From, s.q.To)
	if err != nil {
		return wire.Timing{}, err
	}
	inForce.Finish()
	doc := wire.Timing{From: wire.Time{Time: s.q.From}, To: wire.Time{Time: s.q.To}, Room: string(s.room), Sessions: study.Sessions, People: study.People,
		Entries: study.Entries, Missing: study.Missing, Idle: lengths(&study.Quiet), Typing: s.typing(typings), InForce: replayed(inForce), Leaves: inForce.Recorded(),
		Exceptions: exceptions(inForce.Exceptions()), Losses: losses(study), Unknown: s.unknown(study)}
	if s.tried != nil {
		tried.Finish()
		other := replayed(tried)
		doc.Tried, doc.Tries = &other, s.q.Tries
	}
	s.advise(study, &doc)
	doc.Took = time.Since(began).Milliseconds()
	return doc, nil
}

func losses(study *timing.Study) (list []wire.Losses) {
	for _, cause := range timing.Causes {
		one := wire.Losses{Cause: string(cause), LossCounts: lossCounts(study.Gaps[cause]), Parts: []wire.LossPart{}}
		for _, part := range study.Parts(cause) {
			one.Parts = append(one.Parts, wire.LossPart{By: part.By, Name: part.Name, LossCounts: lossCounts(&part.Gaps)})
		}
		list = append(list, one)
	}
	return list
}

func lossCounts(g *timing.Gaps) wire.LossCounts {
	return wire.LossCounts{InTime: g.InTime, Late: g.Late, Never: g.Never, Gaps: lengths(&g.Returns)}
}

// shares are the shares of which quantiles are told. A quantile that is told has at least one
// duration beyond it.
var shares = []float64{0.5, 0.9, 0.99, 0.999}

func lengths(h *timing.Histogram) wire.Lengths {
	doc := wire.Lengths{Times: h.N, Quantiles: []wire.Quantile{}}
	enough := slices.DeleteFunc(slices.Clone(shares), func(share float64) bool { return float64(h.N)*(1-share) < 0.999 })
	for i, estimate := range h.Quantiles(enough...) {
		doc.Quantiles = append(doc.Quantiles, quantile(enough[i], estimate))
	}
	return doc
}

func quantile(share float64, i timing.Interval) wire.Quantile {
	return wire.Quantile{Share: share, Value: i.Value.Milliseconds(), Low: i.Low.Milliseconds(), High: i.High.Milliseconds()}
}

func (s *TimingStudy) typing(list []timing.Typing) wire.TypingTimes {
	var lasted timing.Histogram
	expired := int64(0)
	for _, t := range list {
		if s.room != "" && !s.room.Match(t.Room) {
			continue
		}
		lasted.AddTimes(time.Duration(t.Length)*time.Millisecond, t.Times)
		if t.Expired {
			expired += t.Times
		}
	}
	return wire.TypingTimes{Lengths: lengths(&lasted), Expired: expired}
}

func replayed(r *timing.Replay) wire.Replayed {
	o := r.Outcome()
	return wire.Replayed{Leaves: o.Leaves, Losses: o.Losses, Flickers: o.Flickers, Ghosts: o.Ghosts.Milliseconds(), Missing: o.Missing.Milliseconds(),
		Away: o.Away.Milliseconds(), CountError: float64(int(o.CountError*1000+0.5)) / 1000}
}

func exceptions(x timing.Exceptions) wire.TimingExceptions {
	doc := wire.TimingExceptions{Recorded: x.Recorded, Replayed: x.Replayed, First: []wire.TimingLeave{}}
	for only, list := range map[string][]timing.Leave{"recorded": x.RecordedFirst, "replayed": x.ReplayFirst} {
		for _, l := range list {
			doc.First = append(doc.First, wire.TimingLeave{At: wire.Time{Time: l.At}, User: string(l.User), Room: string(l.Room), Only: only})
		}
	}
	slices.SortFunc(doc.First, func(a, b wire.TimingLeave) int {
		return cmp.Or(a.At.Compare(b.At.Time), cmp.Compare(a.User+a.Room, b.User+b.Room))
	})
	return doc
}

// advise adds advice for each grace of the realm; for rooms of one pattern of the policy, that of
// the pattern.
func (s *TimingStudy) advise(study *timing.Study, doc *wire.Timing) {
	policy, table := &s.force.RoomPolicy, "[grace]"
	own := "" // where the policy of a realm stands in tovik.toml
	if name := s.desk.realm.name; name != access.Main {
		own, table = fmt.Sprintf("[[realm]]\nname = %q\n", name), "[realm.policy.grace]"
	}
	for i := range s.force.Rooms {
		if s.room == "" || s.force.Rooms[i].Pattern != s.room {
			continue
		}
		policy = &s.force.Rooms[i].RoomPolicy
		room := "room"
		if own != "" {
			room = "realm.policy.room"
		}
		table = fmt.Sprintf("[[%s]]\npattern = %q\n[%s.grace]", room, string(s.room), room)
	}
	var lines []string
	for _, grace := range []struct {
		name    string
		inForce time.Duration
		gaps    *timing.Gaps
	}{
		{"closing", policy.GraceClosing, study.Gaps[timing.Closing]},
		{"lost", policy.GraceLost, timing.Together(study.Gaps[timing.Lost], study.Gaps[timing.Silent])},
		{"background", max(policy.GraceBackground, policy.GraceLost), study.Gaps[timing.Background]},
	} {
		a := timing.Advise(grace.gaps, grace.inForce)
		advice := wire.GraceAdvice{Key: "grace." + grace.name, Returns: a.Returns, Needed: timing.Enough, InForce: cost(a.Now), Curve: []wire.GraceCost{}}
		if a.Grace.Value > 0 {
			estimate, then, next := quantile(1-timing.Target, a.Grace), cost(a.Then), cost(a.Next)
			advice.Grace, advice.Advised, advice.Next = &estimate, &then, &next
			if a.Grace.Value != grace.inForce {
				lines = append(lines, fmt.Sprintf("%s = %q", grace.name, a.Grace.Value.String()))
			}
		}
		for _, point := range a.Curve {
			advice.Curve = append(advice.Curve, cost(point))
		}
		doc.Advice = append(doc.Advice, advice)
	}
	if lines != nil {
		doc.Config = own + table + "\n" + strings.Join(lines, "\n") + "\n"
	}
}

func cost(c timing.Cost) wire.GraceCost {
	return wire.GraceCost{Grace: c.Grace.Milliseconds(), Flickers: float64(int(c.Flickers*100+0.5)) / 100, Ghosts: c.Ghosts.Milliseconds()}
}

// unknown says what the journal cannot know.
func (s *TimingStudy) unknown(study *timing.Study) []string {
	list := []string{
		"The journal has no beats. When a link that fell silent was lost is moved by the difference of the policies, and links that were heard again before they counted as lost are unknown.",
		fmt.Sprintf("The journal has no single activities. Under a shorter idle.after, only idle times that were longer than the %s in force are counted.", phrase.Lasting(s.force.IdleAfter)),
		"What people set themselves, a status or hiding, is not played.",
	}
	if study.Reloads > 0 {
		list = append(list, "The configuration was reloaded in this time. The replay plays the policy that is in force now all along.")
	}
	if study.Missing > 0 {
		list = append(list, fmt.Sprintf("The journal lost %s in this time.", phrase.Count(int(study.Missing), "entry")))
	}
	return list
}
