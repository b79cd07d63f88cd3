package cli

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"
)

// usage returns the error of a wrong command line.
func usage(format string, args ...any) error {
	return &failure{exitUsage, fmt.Sprintf(format, args...)}
}

// tellsMistakes makes a command, and all under it, report mistakes in our words.
func tellsMistakes(c *cli.Command) {
	c.OnUsageError = usageError // not inherited
	for _, sub := range c.Commands {
		tellsMistakes(sub)
	}
	if c.Action == nil {
		c.Action = group
	}
}

// group is the action of a command that only has commands under it.
func group(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage("there is no command %q; see %s --help", c.Args().First(), c.FullName())
	}
	return cli.ShowSubcommandHelp(c)
}

func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	return usage("%s; see %s --help", mistake(c, err.Error()), c.FullName())
}

// What the library says.
const (
	noCommand = "No help topic for "
	noOption  = "flag provided but not defined: -"
	noValue   = "flag needs an argument: "
)

var (
	badOption   = regexp.MustCompile(`(?s)^invalid value (".*") for flag -(\S+): (.*)$`)
	badVariable = regexp.MustCompile(`(?s)^could not parse (".*") as \S+ value from environment variable "(.*)" for flag \S+: (.*)$`)
	notSet      = regexp.MustCompile(`^Required flags? "(.*)" not set$`)
)

// kinds are what options may be, by their types in Go.
var kinds = map[string]string{
	"int": "a whole number", "int64": "a whole number", "uint64": "a whole number that is not below zero", "float64": "a number", "bool": "true or false",
	"time.Duration": "a time such as 10s, 5m or 2h", "map[string]string": "NAME=VALUE",
}

// mistake says in our words what the library found in the options of a command.
func mistake(c *cli.Command, said string) string {
	if name, ok := strings.CutPrefix(said, noOption); ok {
		return "there is no option " + dashed(name)
	}
	if name, ok := strings.CutPrefix(said, noValue); ok {
		return dashed(strings.TrimLeft(name, "-")) + " wants a value"
	}
	if found := badOption.FindStringSubmatch(said); found != nil {
		value, name, reason := found[1], found[2], found[3]
		if kind := kinds[fmt.Sprintf("%T", c.Value(name))]; kind != "" {
			reason = allowed + kind
		}
		return fmt.Sprintf("%s is %s; %s", dashed(name), value, reason)
	}
	if found := notSet.FindStringSubmatch(said); found != nil {
		return "--" + strings.ReplaceAll(found[1], ", ", " and --") + " must be given"
	}
	return cmp.Or(inVariable(said), said)
}

// inVariable says in our words what the library found in the environment; nothing if it found nothing there.
func inVariable(said string) string {
	if found := badVariable.FindStringSubmatch(said); found != nil {
		return fmt.Sprintf("%s is %s; %s", found[2], found[1], found[3])
	}
	return ""
}

const allowed = "allowed: "

// dashed returns an option as it is written.
func dashed(name string) string {
	if len(name) == 1 {
		return "-" + name
	}
	return "--" + name
}
