package presence_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// cue gives a cue now.
func (s *story) cue(from presence.LinkID, to presence.CueTo, may []presence.Pattern) ([]presence.Carried, error) {
	var out presence.Effects
	links, err := s.core.Cue(instant(s.now), from, to, may, &out)
	s.take(out)
	return links, err
}

// told returns what operators were told of quotas since the last call.
func (s *story) told() (told []presence.Effect) {
	for _, effect := range s.all {
		switch effect.(type) {
		case presence.QuotaNear, presence.QuotaReached:
			told = append(told, effect)
		}
	}
	s.all = nil
	return told
}

// wants says a hello that may be refused.
func (s *story) wants(user presence.UserID) error {
	_, err := s.apply(presence.Hello{User: user, Nonce: "wants", NewSession: "session-" + presence.SessionID(user), NewKey: "k", Rooms: []presence.RoomName{weir}})
	return err
}

func near(name presence.QuotaName, used, limit int) presence.Effect {
	return presence.QuotaNear{QuotaUse: presence.QuotaUse{Quota: name, Used: used, Limit: limit}}
}

func reached(name presence.QuotaName, limit int) presence.Effect {
	return presence.QuotaReached{QuotaUse: presence.QuotaUse{Quota: name, Used: limit, Limit: limit}}
}

func TestAQuotaIsToldBeforeItBitesAndOnce(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.Quota = presence.Quota{People: 5, Sessions: 8} })
	st.opens("ilse", "a").opens("tobin", "b").opens("hanne", "c")
	require.Empty(t, st.told())
	st.opens("corin", "d")
	require.Equal(t, []presence.Effect{near(presence.QuotaPeople, 4, 5)}, st.told(), "at 80 %")
	st.opens("merel", "e").opens("ilse", "a2")
	require.Empty(t, st.told(), "once")

	err := st.wants("wessel")
	requireRefusal(t, err, presence.CodeQuotaReached)
	require.EqualError(t, err, `quota-reached: people is "5"; allowed: at most 5 people, in the whole realm`)
	requireRefusal(t, st.wants("wessel"), presence.CodeQuotaReached)
	require.Equal(t, []presence.Effect{reached(presence.QuotaPeople, 5)}, st.told(), "once, although two were refused")
	st.opens("tobin", "b2")
	require.Equal(t, []presence.Effect{near(presence.QuotaSessions, 7, 8)}, st.told(), "who is there may have more sessions")
	st.opens("hanne", "c2")
	requireRefusal(t, st.wants("ilse"), presence.CodeQuotaReached)
	require.Equal(t, []presence.Effect{reached(presence.QuotaSessions, 8)}, st.told())
	require.Equal(t, []presence.QuotaUse{{Quota: presence.QuotaPeople, Used: 5, Limit: 5}, {Quota: presence.QuotaSessions, Used: 8, Limit: 8}}, st.core.Quotas(instant(st.now)))

	st.loses("a").at(st.now+time.Second).reloads("a").resumed("a", true) // who comes back has kept the place

	for _, user := range []presence.UserID{"corin", "merel"} { // 3 of 5 people are left
		st.must(presence.SignOut{User: user})
	}
	st.opens("corin", "d")
	require.Equal(t, []presence.Effect{near(presence.QuotaPeople, 4, 5)}, st.told(), "again, after less than 70 %")
	st.must(presence.SetPolicy{Policy: presence.DefaultPolicy()})
	require.NoError(t, st.wants("wessel"), "without a limit")
	require.Empty(t, st.core.Quotas(instant(st.now)))
	policy := presence.DefaultPolicy()
	policy.Quota.People = 6
	st.must(presence.SetPolicy{Policy: policy})
	require.Equal(t, []presence.Effect{near(presence.QuotaPeople, 5, 6)}, st.told(), "a limit that is new")
}

func TestASessionThatTakesTheOldersPlaceNeedsNone(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) {
		p.Quota, p.SecondSession = presence.Quota{People: 1, Sessions: 1}, presence.ReplaceFirst
	})
	st.opens("ilse", "a").opens("ilse", "b")
	require.Equal(t, 1, st.core.Size().Sessions)
	requireRefusal(t, st.wants("tobin"), presence.CodeQuotaReached)
}

func TestCuesAreCountedByTheMinute(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.Quota.Cues = 10 })
	st.opens("ilse", "a").opens("tobin", "b")
	st.told()
	give := func(n int) (err error) {
		for range n {
			if _, err = st.cue(st.tabs["a"].link, presence.CueTo{Room: weir}, []presence.Pattern{"**"}); err != nil {
				return err
			}
		}
		return nil
	}
	_, err := st.cue(st.tabs["a"].link, presence.CueTo{Room: weir}, nil)
	requireRefusal(t, err, presence.CodeNotGranted)
	require.NoError(t, give(7), "the one that was refused does not count")
	require.Empty(t, st.told())
	_, err = st.cue(presence.LinkID{}, presence.CueTo{User: "tobin"}, nil)
	require.NoError(t, err, "the back end's count, too")
	require.Equal(t, []presence.Effect{near(presence.QuotaCues, 8, 10)}, st.told())
	require.NoError(t, give(2))
	err = give(1)
	requireRefusal(t, err, presence.CodeQuotaReached)
	require.EqualError(t, err, `quota-reached: cues is "10"; allowed: at most 10 cues in a minute, in the whole realm`)
	requireRefusal(t, give(1), presence.CodeQuotaReached)
	require.Equal(t, []presence.Effect{reached(presence.QuotaCues, 10)}, st.told())

	st.at(time.Minute)
	require.Equal(t, []presence.QuotaUse{{Quota: presence.QuotaCues, Limit: 10}}, st.core.Quotas(instant(st.now)))
	require.NoError(t, give(10))
	require.Empty(t, st.told(), "still told from the minute before")
	st.at(2 * time.Minute)
	require.NoError(t, give(1))
	st.at(3 * time.Minute)
	require.NoError(t, give(8))
	require.Equal(t, []presence.Effect{near(presence.QuotaCues, 8, 10)}, st.told(), "again, after a calm minute")
	policy := presence.DefaultPolicy()
	policy.Quota.Cues = 12
	st.must(presence.SetPolicy{Policy: policy})
	require.NoError(t, give(2))
	require.Equal(t, []presence.Effect{near(presence.QuotaCues, 10, 12)}, st.told(), "again, of another limit")
}
