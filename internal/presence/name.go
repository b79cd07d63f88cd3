package presence

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Limits on names, in bytes.
const (
	maxRoomName  = 128
	maxUserID    = 128
	nameWordRule = "1 to 128 bytes: words of letters a-z A-Z, digits, - and _, joined by single dots"
)

// UserID is the stable id of a person, from their token.
type UserID string

// RoomName is the name of a room: words separated by dots, as in "basin.upper-weir".
type RoomName string

// Pattern stands for many rooms: the word * is any one word, and ** as the last word is one or
// more. A pattern without either stands for one room.
type Pattern string

// ParseRoom checks a room name. Its error is a [*Refusal] with code [CodeBadRoom].
func ParseRoom(s string) (RoomName, error) {
	if len(s) > maxRoomName || !eachWord(s, func(w string, _ bool) bool { return isWord(w) }) {
		return "", &Refusal{Code: CodeBadRoom, Field: "room", Value: s, Allowed: nameWordRule}
	}
	return RoomName(s), nil
}

// ParsePattern checks a pattern. Its error is a [*Refusal] with code [CodeBadPattern].
func ParsePattern(s string) (Pattern, error) {
	ok := eachWord(s, func(w string, last bool) bool {
		return w == "*" || (w == "**" && last) || isWord(w)
	})
	if len(s) > maxRoomName || !ok {
		return "", &Refusal{Code: CodeBadPattern, Field: "room", Value: s,
			Allowed: "a room name in which a word may be * (any one word) and the last may be ** (the rest)"}
	}
	return Pattern(s), nil
}

// Room returns the one room of the pattern; false if it has a wildcard.
func (p Pattern) Room() (RoomName, bool) {
	return RoomName(p), !strings.Contains(string(p), "*")
}

// Match reports whether the pattern matches a room.
func (p Pattern) Match(room RoomName) bool { return p.Covers(Pattern(room)) }

// Covers reports whether p matches every room that other matches, so that a grant of p includes
// a grant of other.
func (p Pattern) Covers(other Pattern) bool {
	grant, asked := string(p), string(other)
	for {
		g, grantRest, grantMore := strings.Cut(grant, ".")
		a, askedRest, askedMore := strings.Cut(asked, ".")
		switch {
		case g == "**":
			return true
		case a == "**" || (g != "*" && g != a):
			return false
		case !grantMore || !askedMore:
			return grantMore == askedMore
		}
		grant, asked = grantRest, askedRest
	}
}

// Overlaps reports whether both patterns can match the same room.
func (p Pattern) Overlaps(other Pattern) bool {
	one, two := string(p), string(other)
	for {
		a, oneRest, oneMore := strings.Cut(one, ".")
		b, twoRest, twoMore := strings.Cut(two, ".")
		switch {
		case a == "**" || b == "**":
			return true
		case a != "*" && b != "*" && a != b:
			return false
		case !oneMore || !twoMore:
			return oneMore == twoMore
		}
		one, two = oneRest, twoRest
	}
}

func eachWord(s string, ok func(word string, last bool) bool) bool {
	for {
		word, rest, more := strings.Cut(s, ".")
		if !ok(word, !more) {
			return false
		}
		if !more {
			return true
		}
		s = rest
	}
}

func isWord(w string) bool {
	for i := range len(w) {
		c := w[i]
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		if !letter && c != '-' && c != '_' {
			return false
		}
	}
	return w != ""
}

// Minimum lengths of a text.
const (
	optional = 0
	required = 1
)

// checkText refuses a text that cannot be shown safely on one line: too short or too long, not
// UTF-8, or with a control or a direction-override character.
func checkText(code Code, field, value string, most, least int) error {
	unshowable := !utf8.ValidString(value) || strings.ContainsFunc(value, func(r rune) bool {
		return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r)
	})
	if len(value) > most || len(value) < least || unshowable {
		return &Refusal{Code: code, Field: field, Value: value, Allowed: fmt.Sprintf(
			"%d to %d bytes of UTF-8 without control or direction characters", least, most)}
	}
	return nil
}
