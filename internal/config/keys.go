package config

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Key describes a setting.
type Key struct {
	Name    string // with dots; repeated tables in [[ ]]
	Default string // as in the file; an example if there is no default
	Doc     string // with the placeholder of the flag in single quotes
	Reload  bool   // a reload applies it
	Flag    string // the name of its flag, without the dashes; empty for none
	IsBool  bool

	example  string
	choice   []string
	min, max string
	repeated bool
	isTime   bool
}

// Variable returns the environment variable of a key: TOVIK_GRACE_LOST for grace.lost. Keys in
// repeated tables have none.
func (k Key) Variable() string {
	if k.repeated {
		return ""
	}
	return "TOVIK_" + strings.ToUpper(strings.ReplaceAll(k.Name, ".", "_"))
}

// Keys returns all keys, in order. Those of the policy of a realm, which are the same as outside
// of it, are left out.
func Keys() []Key { return keys(true) }

func keys(listing bool) (keys []Key) {
	s := defaults()
	walkShape(reflect.ValueOf(&s).Elem(), place{listing: listing}, func(k Key, _ reflect.Value) { keys = append(keys, k) })
	return keys
}

// NeedRestart returns the keys that differ and are read only at the start.
func NeedRestart(was, is *Settings) (names []string) {
	before := map[string]any{}
	each(was, func(k Key, field reflect.Value) { before[k.Name] = field.Interface() })
	each(is, func(k Key, field reflect.Value) {
		if !k.Reload && !reflect.DeepEqual(before[k.Name], field.Interface()) {
			names = append(names, k.Name)
		}
	})
	return names
}

// defaults returns the default settings.
func defaults() Settings {
	s := Settings{PolicyFile: defaultPolicy()}
	each(&s, func(k Key, field reflect.Value) {
		if k.Default != "" {
			_ = set(field, k.Default) // a test sets them all
		}
	})
	return s
}

// each calls the function with every key outside of repeated tables, and its field.
func each(s *Settings, do func(Key, reflect.Value)) {
	walkValues(reflect.ValueOf(s).Elem(), place{}, func(k Key, field reflect.Value) {
		if !k.repeated {
			do(k, field)
		}
	})
}

// place is the position of a struct in the file.
type place struct {
	prefix           string
	reload, repeated bool
	listing          bool // leave out what is not listed
}

// walk visits the fields of a struct and of its tables. It calls tables for each repeated table.
func walk(v reflect.Value, at place, tables func(list reflect.Value, name string, at place), do func(Key, reflect.Value)) {
	for i := range v.NumField() {
		f, field := v.Type().Field(i), v.Field(i)
		name := f.Tag.Get("toml")
		inside := at
		inside.reload = at.reload || f.Tag.Get("reload") == "yes"
		if f.Type.Kind() == reflect.Pointer && f.Type.Elem().Kind() == reflect.Struct {
			if field.IsNil() {
				field = reflect.New(f.Type.Elem())
			}
			field = field.Elem()
		}
		switch {
		case !f.IsExported() || name == "-" || (at.listing && f.Tag.Get("listed") == "no"):
		case f.Anonymous:
			walk(field, inside, tables, do)
		case f.Type == reflect.TypeFor[*bool](): // nil stands for the value of the realm
			do(taggedKey(f, inside), field)
		case isTable(field.Type()):
			inside.prefix += name + "."
			walk(field, inside, tables, do)
		case field.Kind() == reflect.Slice && isTable(field.Type().Elem()):
			inside.repeated = true
			tables(field, name, inside)
		default:
			do(taggedKey(f, inside), field)
		}
	}
}

func isTable(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && !reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]())
}

func taggedKey(f reflect.StructField, at place) Key {
	k := Key{Name: at.prefix + f.Tag.Get("toml"), Default: f.Tag.Get("default"), example: f.Tag.Get("example"), Doc: f.Tag.Get("doc"), Reload: at.reload,
		choice: strings.Fields(f.Tag.Get("choice")), min: f.Tag.Get("min"), max: f.Tag.Get("max"), repeated: at.repeated, IsBool: f.Type.Kind() == reflect.Bool || f.Type == reflect.TypeFor[*bool](), isTime: f.Type == reflect.TypeFor[Duration]()}
	if f.Tag.Get("flag") == "yes" {
		k.Flag = strings.NewReplacer("_", "-", ".", "-").Replace(k.Name)
	}
	return k
}

// walkValues visits the fields that are set. It numbers repeated tables from 1.
func walkValues(v reflect.Value, at place, do func(Key, reflect.Value)) {
	walk(v, at, func(list reflect.Value, name string, inside place) {
		for i := range list.Len() {
			numbered := inside
			numbered.prefix += fmt.Sprintf("%s#%d.", name, i+1)
			walkValues(list.Index(i), numbered, do)
		}
	}, do)
}

// walkShape visits all fields that can be set. Each key has its default, or its example, as
// TOML.
func walkShape(v reflect.Value, at place, do func(Key, reflect.Value)) {
	walk(v, at, func(list reflect.Value, name string, inside place) {
		inside.prefix += "[[" + name + "]]."
		one := reflect.New(list.Type().Elem()).Elem()
		if pattern, ok := one.Addr().Interface().(*PatternFile); ok { // show the defaults
			pattern.RoomFile = defaultPolicy().RoomFile
		}
		walkShape(one, inside, do)
	}, func(k Key, field reflect.Value) {
		shown := reflect.New(field.Type()).Elem()
		shown.Set(field)
		if k.example != "" {
			_ = set(shown, k.example)
		}
		k.Default = literal(shown)
		do(k, field)
	})
}

// withinBounds checks numbers and choices. In repeated tables zero means "not set".
func withinBounds(root any, wrong wrong) (err error) {
	walkValues(reflect.ValueOf(root).Elem(), place{}, func(k Key, field reflect.Value) {
		if err == nil && !(k.repeated && field.IsZero()) {
			err = k.check(field, wrong)
		}
	})
	return err
}

func (k Key) check(field reflect.Value, wrong wrong) error {
	switch {
	case len(k.choice) > 0 && !slices.Contains(k.choice, field.String()):
		return wrong(k.Name, field.String(), strings.Join(k.choice, ", "))
	case k.min == "":
		return nil
	case field.Kind() == reflect.Map:
		for _, name := range field.MapKeys() {
			if one := field.MapIndex(name); !k.within(one) {
				return wrong(k.Name, fmt.Sprint(name, " = ", one), k.bounds(one))
			}
		}
	case !k.within(field):
		return wrong(k.Name, fmt.Sprint(field), k.bounds(field))
	}
	return nil
}

func (k Key) within(number reflect.Value) bool {
	value := number.Convert(reflect.TypeFor[float64]()).Float()
	low, _ := strconv.ParseFloat(k.min, 64)
	high, err := strconv.ParseFloat(k.max, 64)
	return value >= low && (err != nil || value <= high)
}

func (k Key) bounds(number reflect.Value) string {
	what := "a whole number"
	if number.Kind() == reflect.Float64 {
		what = "a number"
	}
	if k.max == "" {
		return fmt.Sprintf("%s, %s or more", what, k.min)
	}
	return fmt.Sprintf("%s from %s to %s", what, k.min, k.max)
}

// set parses the text of a variable or flag into a field. Commas separate the elements of a
// list, and the entries of a table such as session.idle=7d. The error says what is allowed.
func set(field reflect.Value, text string) error {
	switch into := field.Addr().Interface().(type) {
	case *Duration:
		return orAllowed(into.UnmarshalText([]byte(text)), aTime)
	case *Prefix:
		return orAllowed(into.UnmarshalText([]byte(text)), aNetwork)
	}
	switch field.Kind() {
	case reflect.Pointer:
		field.Set(reflect.New(field.Type().Elem()))
		return set(field.Elem(), text)
	case reflect.Bool:
		value, err := strconv.ParseBool(text)
		field.SetBool(value)
		return orAllowed(err, "true, false")
	case reflect.Int, reflect.Int64:
		value, err := strconv.ParseInt(text, 10, 64)
		field.SetInt(value)
		return orAllowed(err, "a whole number")
	case reflect.Float64:
		value, err := strconv.ParseFloat(text, 64)
		field.SetFloat(value)
		return orAllowed(err, "a number")
	case reflect.Slice:
		return setList(field, strings.Split(text, ","))
	case reflect.Map:
		return setTable(field, strings.Split(text, ","))
	}
	field.SetString(text)
	return nil
}

func setList(field reflect.Value, texts []string) error {
	list := reflect.MakeSlice(field.Type(), len(texts), len(texts))
	for i, text := range texts {
		if err := set(list.Index(i), text); err != nil {
			return err
		}
	}
	field.Set(list)
	return nil
}

func setTable(field reflect.Value, entries []string) error {
	table := reflect.MakeMap(field.Type())
	for _, entry := range entries {
		name, text, ok := strings.Cut(entry, "=")
		value := reflect.New(field.Type().Elem()).Elem()
		if err := set(value, text); !ok || err != nil {
			return errors.Join(errors.New("NAME=VALUE, with commas between"), err)
		}
		table.SetMapIndex(reflect.ValueOf(name), value)
	}
	field.Set(table)
	return nil
}

func orAllowed(err error, allowed string) error {
	if err != nil {
		return errors.New(allowed)
	}
	return nil
}

// literal formats a value as TOML.
func literal(v reflect.Value) string {
	if text, ok := v.Interface().(fmt.Stringer); ok {
		return strconv.Quote(text.String())
	}
	switch v.Kind() {
	case reflect.Pointer:
		return fmt.Sprint(!v.IsNil() && v.Elem().Bool())
	case reflect.String:
		return strconv.Quote(v.String())
	case reflect.Slice:
		var list []string
		for i := range v.Len() {
			list = append(list, literal(v.Index(i)))
		}
		return "[" + strings.Join(list, ", ") + "]"
	case reflect.Map:
		var entries []string
		for _, name := range v.MapKeys() {
			entries = append(entries, strconv.Quote(name.String())+" = "+literal(v.MapIndex(name)))
		}
		slices.Sort(entries)
		return "{ " + strings.Join(entries, ", ") + " }"
	}
	return fmt.Sprint(v)
}
