package config

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// lines has the line of each key in a file. Repeated tables are numbered from 1:
// realm#2.key#1.file.
type lines map[string]int

func linesOf(text []byte) lines {
	found := lines{}
	eachKey(text, func(key string, line int, _ *unstable.Node) { found[key] = line })
	return found
}

// bareTime finds a duration that is written as a number without a unit.
func bareTime(path string, text []byte) (err error) {
	times := map[string]bool{}
	for _, key := range keys(false) {
		times[strings.NewReplacer("[[", "", "]]", "").Replace(key.Name)] = key.isTime
	}
	eachKey(text, func(key string, line int, value *unstable.Node) {
		if value != nil && value.Kind != unstable.String && times[numbers.ReplaceAllString(key, "")] && err == nil {
			err = fmt.Errorf("%s:%d: %s is %s; allowed: a time in quotes, such as \"3s\", \"1m30s\" or \"90d\"", path, line, numbers.ReplaceAllString(key, ""), value.Data)
		}
	})
	return err
}

// singleTable finds a table in single brackets that must have double ones.
func singleTable(path string, text []byte) (err error) {
	repeated := map[string]bool{}
	for _, key := range keys(false) {
		for name := key.Name; strings.Contains(name, "]]"); {
			name = name[:strings.LastIndex(name, "]]")]
			repeated[strings.NewReplacer("[[", "", "]]", "").Replace(name)] = true
		}
	}
	eachTable(text, func(name string, line int, kind unstable.Kind) {
		if kind == unstable.Table && repeated[name] && err == nil {
			err = fmt.Errorf("%s:%d: [%s] is one of several; allowed: [[%s]] for each", path, line, name, name)
		}
	})
	return err
}

func eachTable(text []byte, each func(name string, line int, kind unstable.Kind)) {
	var p unstable.Parser
	p.Reset(text)
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind != unstable.Table && e.Kind != unstable.ArrayTable {
			continue
		}
		words, line := keyOf(&p, e)
		each(strings.Join(words, "."), line, e.Kind)
	}
}

// keyOf returns the words of an expression's key, and its line.
func keyOf(p *unstable.Parser, e *unstable.Node) (words []string, line int) {
	for it := e.Key(); it.Next(); {
		if line == 0 {
			line = p.Shape(it.Node().Raw).Start.Line
		}
		words = append(words, string(it.Node().Data))
	}
	return words, line
}

// eachKey calls the function with every key and table of a file, its line, and its value, which
// is nil for a table.
func eachKey(text []byte, each func(key string, line int, value *unstable.Node)) {
	var p unstable.Parser
	p.Reset(text)
	counts := map[string]int{} // of repeated tables, by their names with the numbers of those around them
	prefix := ""
	for p.NextExpression() {
		e := p.Expression()
		words, line := keyOf(&p, e)
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			prefix = ""
			for i, word := range words {
				prefix += word
				if last := i == len(words)-1; last && e.Kind == unstable.ArrayTable {
					counts[prefix]++
				}
				if n := counts[prefix]; n > 0 {
					prefix += fmt.Sprintf("#%d", n)
				}
				prefix += "."
			}
			each(strings.TrimSuffix(prefix, "."), line, nil)
		case unstable.KeyValue:
			each(prefix+strings.Join(words, "."), line, e.Value())
		}
	}
}

var numbers = regexp.MustCompile(`#\d+`)

// mistake describes what is wrong with a key, and on which line: its own, or that of the table
// that lacks it.
func (l lines) mistake(path, key, value, allowed string) error {
	where := path
	for name := key; ; {
		if line, ok := l[name]; ok {
			where = fmt.Sprintf("%s:%d", path, line)
			break
		}
		cut := strings.LastIndex(name, ".")
		if cut < 0 {
			break
		}
		name = name[:cut]
	}
	return fmt.Errorf("%s: %s is %q; allowed: %s", where, numbers.ReplaceAllString(key, ""), value, allowed)
}
