package config

import (
	"fmt"
	"regexp"
	"strings"
)

var flagValue = regexp.MustCompile(`'([A-Z:]+)'`)

// doc returns the documentation of a key, with other quotes around the placeholder.
func (k Key) doc(quote string) string { return flagValue.ReplaceAllString(k.Doc, quote+"$1"+quote) }

// Usage returns the help for the flag of a key.
func (k Key) Usage() string {
	return strings.ToLower(k.Doc[:1]) + strings.TrimSuffix(k.doc("`")[1:], ".")
}

// HasDefault reports whether Default is a default, not an example.
func (k Key) HasDefault() bool { return k.example == "" }

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
			fmt.Fprintf(&out, "\n# %s\n# %s = %s\n", key.doc(""), key.Name, key.Default)
		}
	}
	return out.String()
}

// pageHead is the beginning of the page. It has single quotes in place of backquotes.
const pageHead = `# Configuration

'tovik serve' reads 'tovik.toml' in its working directory, or the file given by '--config'. 'tovik config init' writes a file with
every key as a comment, and 'tovik config check' reports each mistake with its line, the key and what is allowed. Environment
variables override the file, and flags override both. An unknown key is an error.

Durations are written as '"250ms"', '"3s"', '"1m30s"' or '"90d"'. A key with dots can also be in a table: 'beat.every = "15s"' is
the same as 'every = "15s"' under '[beat]'. Tables in '[[ ]]' can be repeated. The variable of a key is 'TOVIK_' and the key in
capitals with '_' for dots: 'TOVIK_BEAT_EVERY'. Lists have commas between ('10.0.0.1,10.1.0.0/16'), and so have entries of a table
('session.idle=7d,member.left=30d').

After 'tovik reload' or SIGHUP a running service applies the keys marked *reload*, whole or not at all; it also reads its
certificate again. If any other key has changed, the reload is refused and names the key: it needs a restart.

A realm can have a policy of its own: the keys of policies, from 'beat.every' to 'members.max', and '[[room]]', can also stand in
'[realm.policy]' after the '[[realm]]' they are for. Keys that it leaves out are those of the service, pattern by pattern.

'''toml
[[realm]]
name = "training"
[realm.policy]
grace.lost = "20s"
[[realm.policy.room]]
pattern = "desk.*"
capacity = 12
'''

This page is generated: 'go test ./internal/config -write'.

| key | default | flag | reload | |
|---|---|---|---|---|
`

// Page returns the documentation of the settings.
func Page() string {
	var out strings.Builder
	out.WriteString(strings.ReplaceAll(pageHead, "'", "`"))
	for _, key := range Keys() {
		flag, reload := "", ""
		if key.Flag != "" {
			flag = "`" + "--" + key.Flag + "`"
		}
		if key.Reload {
			reload = "reload"
		}
		value := "`" + strings.ReplaceAll(key.Default, "|", "\\|") + "`"
		if key.example != "" {
			value = "none, or such as " + value
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s | %s |\n", key.Name, value, flag, reload, key.doc("`"))
	}
	return out.String()
}
