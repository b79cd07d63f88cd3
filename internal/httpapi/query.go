package httpapi

import (
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/problem"
)

// param returns a path parameter, unescaped.
func param(c fiber.Ctx, name string) string {
	escaped := c.Params(name)
	text, err := url.PathUnescape(escaped)
	if err != nil {
		return escaped // no id that is known, and it is repeated as it came
	}
	return text
}

// numberIn reads a whole number from the query.
func numberIn(c fiber.Ctx, field string, otherwise, least, most int64) (int64, error) {
	text := c.Query(field)
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < least || n > most {
		return 0, problem.BadField(field, text, "invalid number", "a whole number from "+strconv.FormatInt(least, 10)+" to "+strconv.FormatInt(most, 10))
	}
	return n, nil
}

// limitIn reads the size of a page. A table is complete unless the query limits it.
func limitIn(c fiber.Ctx) (int, error) {
	form, err := formIn(c, asJSON, asNDJSON, asCSV)
	if err != nil {
		return 0, err
	}
	if form != asJSON {
		n, err := numberIn(c, "limit", everything, 1, everything)
		return int(n), err
	}
	n, err := numberIn(c, "limit", defaultLimit, 1, maxLimit)
	return int(n), err
}

// everything means no limit.
const everything = 1 << 53

// timeIn reads a time from the query: RFC 3339, or how long ago, as in 90m or 7d.
func timeIn(c fiber.Ctx, field string, otherwise time.Time) (time.Time, error) {
	text := c.Query(field)
	if text == "" {
		return otherwise, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	days, isDays := strings.CutSuffix(text, "d")
	if n, err := strconv.Atoi(days); isDays && err == nil && n >= 0 && n <= 36500 {
		return time.Now().AddDate(0, 0, -n), nil
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return time.Now().Add(-ago), nil
	}
	return time.Time{}, problem.BadField(field, text, "invalid time", "a time such as 2026-11-23T03:00:00Z (RFC 3339), or how long ago: 90m, 12h, 7d")
}

// spanIn reads from and to, which are both required.
func spanIn(c fiber.Ctx, from time.Time) (begin, end time.Time, err error) {
	if begin, err = timeIn(c, "from", from); err != nil {
		return begin, end, err
	}
	if end, err = timeIn(c, "to", time.Now()); err != nil {
		return begin, end, err
	}
	return begin, end, inOrder(begin, end)
}

// inOrder refuses a time that ends before it begins.
func inOrder(from, to time.Time) error {
	if !from.Before(to) {
		return problem.BadField("from", from.UTC().Format(time.RFC3339), "what is asked for ends before it begins", "a time before to")
	}
	return nil
}

// wordsIn reads a list from the query: repeated, or with commas.
func wordsIn(c fiber.Ctx, field string) (list []string) {
	for _, given := range c.RequestCtx().QueryArgs().PeekMulti(field) {
		for word := range strings.SplitSeq(string(given), ",") {
			if word != "" {
				list = append(list, word)
			}
		}
	}
	return list
}

// repeated reads a parameter that may be repeated.
func repeated(c fiber.Ctx, field string) (list []string) {
	for _, given := range c.RequestCtx().QueryArgs().PeekMulti(field) {
		list = append(list, string(given))
	}
	return list
}

// The forms of a list.
const (
	asJSON   = "json"
	asNDJSON = "ndjson"
	asCSV    = "csv"
	asStream = "stream"
)

// mediaTypes are the forms besides JSON, by media type.
var mediaTypes = map[string]string{
	asNDJSON: "application/x-ndjson", asCSV: "text/csv; charset=utf-8", asStream: "text/event-stream; charset=utf-8",
}

// formIn reads the form of the answer, from the query or the Accept header.
func formIn(c fiber.Ctx, forms ...string) (string, error) {
	if form := c.Query("format"); form != "" {
		if form != asStream && slices.Contains(forms, form) {
			return form, nil
		}
		return "", problem.BadField("format", form, "the answer is not available in this form", "json, ndjson, csv")
	}
	if accepted := c.Get(fiber.HeaderAccept); accepted == "" || accepted == "*/*" {
		return forms[0], nil
	}
	offers := make([]string, len(forms))
	for i, form := range forms {
		offers[i] = "application/json"
		if form != asJSON {
			offers[i] = mediaType(form)
		}
	}
	if at := slices.Index(offers, c.Accepts(offers...)); at >= 0 {
		return forms[at], nil
	}
	return asJSON, nil
}
