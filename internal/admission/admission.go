// Package admission asks an application whether a person may be in a room, or watch it. The
// question is a POST, signed as Standard Webhooks has it.
package admission

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// Client asks one application. A person whom the application does not admit explicitly,
// and in time, is not admitted. A nil Client admits everybody.
type Client struct {
	Rooms  []presence.Pattern // about which the application is asked
	URL    string
	Secret string        // signs the question: whsec_ and base64, or a text as it is
	Wait   time.Duration // how long the answer may take; 3 s when zero
	HTTP   *http.Client  // nil stands for one that follows no redirects

	mu     sync.Mutex
	recent map[question]admitted
}

type question struct {
	user    presence.UserID
	purpose string
	rooms   presence.Pattern
	issued  int64 // another token may say something else
}

type admitted struct {
	until time.Time
	verdict
}

// verdict is what the application answers: whether somebody may be in the room, and, if
// it says so, with what profile instead of the token's.
type verdict struct {
	Admit   bool   `json:"admit"`
	Name    string `json:"name"`
	Picture string `json:"picture"`
}

// What is known of admissions is kept for a short time, and for so many.
const (
	admissionWait  = 3 * time.Second
	admissionFor   = 10 * time.Second
	maxAdmissions  = 10_000
	maxAdmitAnswer = 4 << 10
)

// The purposes about which the application is asked.
const (
	toJoin  = "join"
	toWatch = "watch"
)

// Asks tells whether the application is asked about a room.
func (a *Client) Asks(room presence.RoomName) bool {
	return a != nil && slices.ContainsFunc(a.Rooms, func(p presence.Pattern) bool { return p.Match(room) })
}

// Admit asks whether a person may be in a room, and returns their profile from then on.
// Its error is a [*wire.Problem].
func (a *Client) Admit(ctx context.Context, realm string, p access.Person, room presence.RoomName) (presence.Profile, error) {
	profile := p.Profile
	if !a.Asks(room) {
		return profile, nil
	}
	answer, err := a.ask(ctx, realm, p, toJoin, presence.Pattern(room))
	if err == nil && answer.Admit {
		err = access.CheckPicture(answer.Picture)
	}
	if err != nil || !answer.Admit {
		return profile, notAdmitted(presence.Pattern(room), toJoin, err)
	}
	if answer.Name != "" {
		profile.Name = norm.NFC.String(answer.Name)
	}
	if answer.Picture != "" {
		profile.Picture = answer.Picture
	}
	return profile, nil
}

// AdmitWatch asks whether a person may watch a room, or the rooms of a pattern when it
// may name one about which the application is asked. Its error is a [*wire.Problem].
func (a *Client) AdmitWatch(ctx context.Context, realm string, p access.Person, pattern presence.Pattern) error {
	if a == nil || !slices.ContainsFunc(a.Rooms, func(asked presence.Pattern) bool { return asked.Overlaps(pattern) }) {
		return nil
	}
	answer, err := a.ask(ctx, realm, p, toWatch, pattern)
	if err != nil || !answer.Admit {
		return notAdmitted(pattern, toWatch, err)
	}
	return nil
}

func notAdmitted(rooms presence.Pattern, purpose string, err error) error {
	detail := "the application does not let this person " + purpose + " the room"
	if err != nil {
		detail = "the application did not answer in time, or not as it should, whether this person may " + purpose + " the room"
	}
	return &wire.Problem{Code: wire.CodeNotAdmitted, Field: "room", Value: string(rooms), Detail: detail, Allowed: "people whom the application admits"}
}

func (a *Client) ask(ctx context.Context, realm string, p access.Person, purpose string, rooms presence.Pattern) (verdict, error) {
	key := question{p.User, purpose, rooms, p.Issued.UnixMilli()}
	now := time.Now()
	a.mu.Lock()
	known, ok := a.recent[key]
	a.mu.Unlock()
	if ok && now.Before(known.until) {
		return known.verdict, nil
	}
	answer, err := a.post(ctx, realm, p, purpose, rooms)
	if err != nil {
		return answer, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.recent == nil || len(a.recent) >= maxAdmissions {
		a.recent = map[question]admitted{}
	}
	a.recent[key] = admitted{now.Add(admissionFor), answer}
	return answer, nil
}

// post asks once. The signature is that of Standard Webhooks: over id, time and body.
func (a *Client) post(ctx context.Context, realm string, p access.Person, purpose string, rooms presence.Pattern) (answer verdict, err error) {
	body, err := json.Marshal(map[string]string{"realm": realm, "user": string(p.User), "name": p.Profile.Name, "room": string(rooms), "to": purpose})
	if err != nil {
		return answer, err
	}
	wait := a.Wait
	if wait == 0 {
		wait = admissionWait
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, a.URL, bytes.NewReader(body))
	if err != nil {
		return answer, err
	}
	request.Header.Set("Content-Type", "application/json")
	secret, err := hooks.SecretBytes(a.Secret)
	if err != nil {
		return answer, err
	}
	hooks.Sign(request.Header, "ask-"+strings.ToLower(rand.Text()), time.Now(), body, secret)
	client := a.HTTP
	if client == nil {
		client = noRedirects
	}
	response, err := client.Do(request)
	if err != nil {
		return answer, err
	}
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		return answer, fmt.Errorf("the application answered %s", response.Status)
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAdmitAnswer))
	if err != nil {
		return answer, err
	}
	return answer, strictjson.Read(text, &answer)
}

var noRedirects = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
