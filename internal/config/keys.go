package config

import (
	"fmt"
	"reflect"
	"strings"
)

// Key is a key of the file.
type Key struct {
	Name    string // with dots; repeated tables in [[ ]]
	Default string // as in the file; an example if there is no default
	Doc     string
	isTime  bool
	kind    reflect.Type
}

// Keys returns all keys of the file, in order. They come from the struct that the file is read
// into.
func Keys() []Key {
	var keys []Key
	walk(reflect.TypeFor[serviceFile](), "", &keys)
	return keys
}

func walk(t reflect.Type, prefix string, keys *[]Key) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, kind := f.Tag.Get("toml"), f.Type
		if kind.Kind() == reflect.Pointer {
			kind = kind.Elem()
		}
		switch {
		case f.Anonymous:
			walk(kind, prefix, keys)
		case kind.Kind() == reflect.Struct && kind != reflect.TypeFor[duration]():
			walk(kind, prefix+name+".", keys)
		case kind.Kind() == reflect.Slice && kind.Elem().Kind() == reflect.Struct:
			walk(kind.Elem(), prefix+"[["+name+"]].", keys)
		default:
			*keys = append(*keys, Key{prefix + name, f.Tag.Get("default"), f.Tag.Get("doc"), kind == reflect.TypeFor[duration](), kind})
		}
	}
}

// Example returns a file with every key as a comment, with its meaning and its default.
func Example() string {
	var out strings.Builder
	out.WriteString("# Tovik's configuration (TOML). Each key stands here with its default, or with an example;\n" +
		"# take the # away to change it. Flags and the environment go before what stands here.\n")
	// Keys outside tables come first, because a key after the head of a table belongs to the
	// table.
	var tables []string
	of := map[string][]Key{}
	for _, key := range Keys() {
		table := ""
		if cut := strings.LastIndex(key.Name, "]]."); cut >= 0 {
			table = strings.NewReplacer("[[", "", "]]", "").Replace(key.Name[:cut+2])
			key.Name = key.Name[cut+3:]
		}
		if of[table] == nil {
			tables = append(tables, table)
		}
		of[table] = append(of[table], key)
	}
	for _, table := range tables {
		if table != "" {
			fmt.Fprintf(&out, "\n# [[%s]]\n", table)
		}
		for _, key := range of[table] {
			fmt.Fprintf(&out, "\n# %s\n# %s = %s\n", key.Doc, key.Name, key.Default)
		}
	}
	return out.String()
}

// Table returns the documentation of the file: every key with its default.
func Table() string {
	var out strings.Builder
	out.WriteString("# The configuration file\n\n" +
		"Made from what the file is read into (`go test ./internal/config -write`); `tovik config init` writes the same as a file of comments, and `tovik config check` names the\n" +
		"line, the key and what is allowed of what is wrong. `tovik serve` reads `tovik.toml` when that is in the directory it is started in, or the file of `--config`. Flags and the\n" +
		"environment go before the file. A key that is not known is an error.\n\n" +
		"Times are written as `\"250ms\"`, `\"3s\"`, `\"1m30s\"` or `\"90d\"`. Keys with dots may stand in a table: `beat.every = \"15s\"` is `every = \"15s\"` under `[beat]`. What has `[[ ]]`\n" +
		"around it is a table that repeats.\n\n" +
		"`tovik reload`, or SIGHUP, has a running service take over the file as it is now, whole or not at all: policies, `[[room]]`, `[keep]`, the origins of realms, and the certificate,\n" +
		"which is read anew. What else has changed needs a restart, and is refused by name.\n\n| key | default, or an example | in the environment | |\n|---|---|---|---|\n")
	for _, key := range Keys() {
		variable := key.Variable()
		if variable != "" {
			variable = "`" + variable + "`"
		}
		fmt.Fprintf(&out, "| `%s` | `%s` | %s | %s |\n", key.Name, strings.ReplaceAll(key.Default, "|", "\\|"), variable, key.Doc)
	}
	return out.String()
}
