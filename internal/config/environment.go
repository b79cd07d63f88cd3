package config

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Variable returns the environment variable of a key: TOVIK_GRACE_LOST for grace.lost. Keys in
// repeated tables have none.
func (k Key) Variable() string {
	if strings.Contains(k.Name, "[[") {
		return ""
	}
	return "TOVIK_" + strings.ToUpper(strings.ReplaceAll(k.Name, ".", "_"))
}

// overlay applies the environment over the file, and returns the variables that it used, by key.
func (f *serviceFile) overlay(lookup func(string) (string, bool)) (from map[string]string, err error) {
	from = map[string]string{}
	for _, key := range Keys() {
		text, given := lookup(key.Variable())
		if key.Variable() == "" || !given || text == "" {
			continue
		}
		value, allowed := key.read(text)
		if value == nil {
			return nil, fmt.Errorf("%s is %q; allowed: %s", key.Variable(), text, allowed)
		}
		document := any(value)
		words := strings.Split(key.Name, ".")
		for i := len(words) - 1; i >= 0; i-- {
			document = map[string]any{words[i]: document}
		}
		line, err := toml.Marshal(document)
		if err == nil {
			err = decodeStrictly(line, f)
		}
		if err != nil {
			return nil, fmt.Errorf("%s is %q: %w", key.Variable(), text, err)
		}
		from[key.Name] = key.Variable()
	}
	return from, nil
}

// read converts the text of a variable to the type of the key. Lists are separated by commas; a
// table looks like session.idle=7d, with commas between its entries. It returns nil for invalid
// text.
func (k Key) read(text string) (value any, allowed string) {
	var err error
	switch {
	case k.isTime:
		var d duration
		if d.UnmarshalText([]byte(text)) == nil {
			return text, ""
		}
		return nil, `a time such as 3s, 1m30s or 90d`
	case k.kind.Kind() == reflect.Bool:
		value, err = strconv.ParseBool(text)
		allowed = "true, false"
	case k.kind.Kind() == reflect.Int, k.kind.Kind() == reflect.Int64:
		value, err = strconv.ParseInt(text, 10, 64)
		allowed = "a whole number"
	case k.kind.Kind() == reflect.Float64:
		value, err = strconv.ParseFloat(text, 64)
		allowed = "a number"
	case k.kind.Kind() == reflect.Slice:
		return strings.Split(text, ","), ""
	case k.kind.Kind() == reflect.Map:
		table := map[string]any{}
		whole := k.kind.Elem().Kind() == reflect.Int64
		for part := range strings.SplitSeq(text, ",") {
			name, one, ok := strings.Cut(part, "=")
			if !ok {
				return nil, "NAME=VALUE, with commas between"
			}
			table[name] = one
			if whole {
				if table[name], err = strconv.ParseInt(one, 10, 64); err != nil {
					return nil, "NAME=NUMBER, with commas between"
				}
			}
		}
		return table, ""
	default:
		return text, ""
	}
	if err != nil {
		return nil, allowed
	}
	return value, ""
}
