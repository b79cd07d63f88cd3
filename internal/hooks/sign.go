package hooks

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// secretPrefix is the prefix of secrets in Standard Webhooks.
const secretPrefix = "whsec_"

// NewSecret returns a new secret.
func NewSecret() string {
	var bytes [24]byte
	_, _ = rand.Read(bytes[:]) // never fails
	return secretPrefix + base64.StdEncoding.EncodeToString(bytes[:])
}

// ParseSecret decodes a secret.
func ParseSecret(text string) ([]byte, error) {
	secret, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(text, secretPrefix))
	if err != nil || len(secret) < 16 {
		return nil, fmt.Errorf("the secret is not one of Standard Webhooks; allowed: %s and 16 bytes or more in base64", secretPrefix)
	}
	return secret, nil
}

// SecretBytes returns the signing key of a secret in either form: whsec_ and base64, as in
// Standard Webhooks, or any other text.
func SecretBytes(text string) ([]byte, error) {
	if strings.HasPrefix(text, secretPrefix) {
		return ParseSecret(text)
	}
	return []byte(text), nil
}

// Sign sets the headers of Standard Webhooks on a request with this body and time, with a
// signature for each secret.
func Sign(h http.Header, id string, at time.Time, body []byte, secrets ...[]byte) {
	stamp := strconv.FormatInt(at.Unix(), 10)
	var signatures []string
	for _, secret := range secrets {
		signatures = append(signatures, signature(id, stamp, body, secret))
	}
	h.Set("webhook-id", id)
	h.Set("webhook-timestamp", stamp)
	h.Set("webhook-signature", strings.Join(signatures, " "))
}

func signature(id, stamp string, body, secret []byte) string {
	mac := hmac.New(sha256.New, secret)
	_, _ = fmt.Fprintf(mac, "%s.%s.%s", id, stamp, body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// tolerance is how far the time of a request may be from the receiver's clock.
const tolerance = 5 * time.Minute

// Verify reports whether a request was signed with the secret, and is recent.
func Verify(h http.Header, now time.Time, body, secret []byte) error {
	id, stamp := h.Get("webhook-id"), h.Get("webhook-timestamp")
	at, err := strconv.ParseInt(stamp, 10, 64)
	if id == "" || err != nil {
		return fmt.Errorf("the request has no webhook-id, or no webhook-timestamp")
	}
	if d := now.Sub(time.Unix(at, 0)); d > tolerance || d < -tolerance {
		return fmt.Errorf("the request was signed %s ago; allowed: %s before and after now", d.Round(time.Second), tolerance)
	}
	want := signature(id, stamp, body, secret)
	for _, got := range strings.Fields(h.Get("webhook-signature")) {
		if hmac.Equal([]byte(got), []byte(want)) {
			return nil
		}
	}
	return fmt.Errorf("none of the signatures is one of this secret")
}
