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

// tableHead begins the documentation of the file, with ' for the quotes of code.
const tableHead = `# The configuration file

'tovik serve' reads 'tovik.toml' in its working directory, or the file given by '--config'. 'tovik config init' writes a file with
every key as a comment, and 'tovik config check' reports each mistake with its line, the key and what is allowed. Flags and
environment variables override the file. An unknown key is an error.

Durations are written as '"250ms"', '"3s"', '"1m30s"' or '"90d"'. A key with dots can also be in a table: 'beat.every = "15s"' is
the same as 'every = "15s"' under '[beat]'. Tables in '[[ ]]' can be repeated.

After 'tovik reload' or SIGHUP a running service applies the file, whole or not at all: policies, '[[room]]', '[keep]', the origins
of realms, and the certificate. If any other key has changed, the reload is refused and names the key: it needs a restart.

This page is generated: 'go test ./internal/config -write'.

| key | default, or an example | environment | |
|---|---|---|---|
`

// Table returns the documentation of the file: every key with its default.
func Table() string {
	var out strings.Builder
	out.WriteString(strings.ReplaceAll(tableHead, "'", "`"))
	for _, key := range Keys() {
		variable := key.Variable()
		if variable != "" {
			variable = "`" + variable + "`"
		}
		fmt.Fprintf(&out, "| `%s` | `%s` | %s | %s |\n", key.Name, strings.ReplaceAll(key.Default, "|", "\\|"), variable, key.Doc)
	}
	return out.String()
}
