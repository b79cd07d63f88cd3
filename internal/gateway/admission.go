package gateway

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Admission asks the application whether somebody may be in a room: with a POST, signed
// as Standard Webhooks has it. Whoever it does not admit, in time and in so many words,
// may not.
type Admission struct {
	Rooms  []presence.Pattern // that are asked for
	URL    string
	Secret string        // signs the question
	Wait   time.Duration // how long the answer may take; 3 s when zero
	Client *http.Client  // nil stands for one that follows no redirects

	mu     sync.Mutex
	recent map[admissionKey]admitted
}

type admissionKey struct {
	user   presence.UserID
	room   presence.RoomName
	issued int64 // another token may say something else
}

type admitted struct {
	until time.Time
	admit bool
}

// What is known of admissions is kept for a short time, and for so many.
const (
	admissionWait  = 3 * time.Second
	admissionFor   = 10 * time.Second
	maxAdmissions  = 10_000
	maxAdmitAnswer = 4 << 10
)

// asks tells whether the application is asked about a room.
func (a *Admission) asks(room presence.RoomName) bool {
	return a != nil && slices.ContainsFunc(a.Rooms, func(p presence.Pattern) bool { return p.Match(room) })
}

// admit asks about each room that is asked for. Its error is a [*wire.Problem].
func (a *Admission) admit(realm string, p access.Person, rooms []presence.RoomName) error {
	for _, room := range rooms {
		if !a.asks(room) {
			continue
		}
		ok, err := a.ask(realm, p, room)
		if !ok {
			detail := "the application does not admit this person to the room"
			if err != nil {
				detail = "the application could not be asked whether this person may be in the room"
			}
			return &wire.Problem{Code: wire.CodeNotAdmitted, Field: "room", Value: string(room), Detail: detail, Allowed: "whom the application admits"}
		}
	}
	return nil
}

func (a *Admission) ask(realm string, p access.Person, room presence.RoomName) (bool, error) {
	key := admissionKey{p.User, room, p.Issued.UnixMilli()}
	now := time.Now()
	a.mu.Lock()
	known, ok := a.recent[key]
	a.mu.Unlock()
	if ok && now.Before(known.until) {
		return known.admit, nil
	}
	admit, err := a.post(realm, p, room)
	if err != nil {
		return false, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.recent == nil || len(a.recent) >= maxAdmissions {
		a.recent = map[admissionKey]admitted{}
	}
	a.recent[key] = admitted{now.Add(admissionFor), admit}
	return admit, nil
}

// post asks once. The signature is that of Standard Webhooks: over id, time and body.
func (a *Admission) post(realm string, p access.Person, room presence.RoomName) (bool, error) {
	body, err := json.Marshal(map[string]string{"realm": realm, "user": string(p.User), "name": p.Profile.Name, "room": string(room)})
	if err != nil {
		return false, err
	}
	wait := a.Wait
	if wait == 0 {
		wait = admissionWait
	}
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, a.URL, bytes.NewReader(body))
	if err != nil {
		return false, err
	}
	id, at := "ask_"+rand.Text(), strconv.FormatInt(time.Now().Unix(), 10)
	mac := hmac.New(sha256.New, []byte(a.Secret))
	_, _ = fmt.Fprintf(mac, "%s.%s.%s", id, at, body)
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("webhook-id", id)
	request.Header.Set("webhook-timestamp", at)
	request.Header.Set("webhook-signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	client := a.Client
	if client == nil {
		client = noRedirects
	}
	response, err := client.Do(request)
	if err != nil {
		return false, err
	}
	defer func() { _ = response.Body.Close() }()
	var answer struct {
		Admit bool `json:"admit"`
	}
	if response.StatusCode != http.StatusOK {
		return false, fmt.Errorf("the application answered %s", response.Status)
	}
	if err := json.NewDecoder(io.LimitReader(response.Body, maxAdmitAnswer)).Decode(&answer); err != nil {
		return false, err
	}
	return answer.Admit, nil
}

var noRedirects = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
