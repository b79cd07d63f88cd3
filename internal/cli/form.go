package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"tovik.example/tovik/wire"
)

// The forms of output.
const (
	formatTable  = "table"
	formatJSON   = "json"
	formatNDJSON = "ndjson"
	formatCSV    = "csv"
)

var formats = []string{formatTable, formatJSON, formatNDJSON, formatCSV}

func formatFlag() cli.Flag {
	return &cli.StringFlag{Name: "format", Value: formatTable, Usage: strings.Join(formats, ", "), Sources: cli.EnvVars("TOVIK_FORMAT"), Validator: func(s string) error {
		if !slices.Contains(formats, s) {
			return errors.New(allowed + strings.Join(formats, ", "))
		}
		return nil
	}}
}

// show prints a document in the chosen form. Table writes lines, with tabs between cells.
func show[T any](c *cli.Command, document T, table func(io.Writer)) error {
	return listing(c, document, []T{document}, table)
}

// listing prints a document; as NDJSON and CSV, the list in it.
func listing[T any](c *cli.Command, document any, list []T, table func(io.Writer)) error {
	out := c.Root().Writer
	encoder := json.NewEncoder(out)
	encoder.SetEscapeHTML(false)
	switch c.String("format") {
	case formatJSON:
		encoder.SetIndent("", "  ")
		return encoder.Encode(document)
	case formatNDJSON:
		for i := range list {
			if err := encoder.Encode(list[i]); err != nil {
				return err
			}
		}
		return nil
	case formatCSV: // RFC 4180
		rows := csv.NewWriter(out)
		rows.UseCRLF = true
		err := rows.Write(wire.Columns(reflect.TypeFor[T]()))
		for i := range list {
			if err == nil {
				err = rows.Write(wire.Cells(list[i]))
			}
		}
		rows.Flush()
		if err == nil {
			err = rows.Error()
		}
		return err
	}
	var text bytes.Buffer
	table(&text)
	if len(list) == 0 && bytes.Count(text.Bytes(), []byte{'\n'}) == 1 { // the head alone
		text.WriteString("None.\n")
	}
	_, err := io.WriteString(out, layOut(text.String(), screenOf(out)))
	return err
}

// widest is the width of a table that is not printed to a terminal.
const widest = 120

// screen is the output of a command.
type screen struct {
	width   int
	colours bool // a terminal with colours, and they are not switched off
}

func screenOf(out io.Writer) screen {
	s := screen{width: widest}
	if file, ok := out.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		if width, _, err := term.GetSize(int(file.Fd())); err == nil && width > 20 {
			s.width = min(width, 200)
		}
		_, plain := os.LookupEnv("NO_COLOR") // no-color.org
		s.colours = !plain && os.Getenv("TERM") != "dumb"
	}
	return s
}

// paint colours a text, if there are colours.
func (s screen) paint(style lipgloss.Style, text string) string {
	if !s.colours {
		return text
	}
	return style.Render(text)
}

// layOut aligns lines with tabs, each group of consecutive lines by itself, to the width of the
// screen: the widest columns are wrapped, and so are other lines.
func layOut(text string, s screen) string {
	var out strings.Builder
	var rows [][]string
	for line := range strings.Lines(text) {
		line = strings.TrimSuffix(line, "\n")
		if strings.Contains(line, "\t") {
			rows = append(rows, strings.Split(strings.TrimSuffix(line, "\t"), "\t"))
			continue
		}
		s.table(&out, rows)
		rows = nil
		out.WriteString(hang(line, s.width) + "\n")
	}
	s.table(&out, rows)
	return out.String()
}

// hang wraps a line. The rest of an indented line is indented a little more.
func hang(line string, width int) string {
	text := strings.TrimLeft(line, " ")
	indent := len(line) - len(text)
	if indent == 0 {
		return wrap(line, width)
	}
	return strings.Repeat(" ", indent) + strings.ReplaceAll(wrap(text, width-indent-2), "\n", "\n"+strings.Repeat(" ", indent+2))
}

// lasting finds times such as 1 min 30 s.
var lasting = regexp.MustCompile(`\d (days?|h|min|s|ms)( \d+ (h|min|s|ms))*\b`)

// wrap breaks a text into lines, but no time.
func wrap(text string, width int) string {
	const unbroken = "\u00a0"
	text = lasting.ReplaceAllStringFunc(text, func(time string) string { return strings.ReplaceAll(time, " ", unbroken) })
	return strings.ReplaceAll(ansi.Wordwrap(text, width, " "), unbroken, " ")
}

const between2 = "  " // between two columns

func (s screen) table(out *strings.Builder, rows [][]string) {
	var widths []int
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	for total := sum(widths) + len(between2)*(len(widths)-1); total > s.width; total-- {
		widths[slices.Index(widths, slices.Max(widths))]--
	}
	headed := len(rows) > 0 && isHead(rows[0])
	for n, row := range rows {
		for i, cell := range row {
			if ansi.StringWidth(cell) > widths[i] {
				cell = ansi.Truncate(cell, widths[i], "…")
			}
			gap := strings.Repeat(" ", widths[i]-ansi.StringWidth(cell)) + between2
			switch {
			case headed && n == 0:
				cell = s.paint(bold, cell)
			case headed && i < len(rows[0]) && (rows[0][i] == "STATUS" || rows[0][i] == "STATE"):
				cell = s.status(cell)
			}
			if i == len(row)-1 {
				gap = ""
			}
			out.WriteString(cell + gap)
		}
		out.WriteString("\n")
	}
}

func sum(list []int) (total int) {
	for _, n := range list {
		total += n
	}
	return total
}

// isHead reports whether a line is a table head.
func isHead(row []string) bool {
	return !slices.ContainsFunc(row, func(cell string) bool { return strings.ContainsFunc(cell, unicode.IsLower) })
}

// Colours of statuses, from the terminal's own palette. The word is always shown, too.
var (
	bold  = lipgloss.NewStyle().Bold(true)
	good  = lipgloss.NewStyle().Foreground(lipgloss.Green)
	fair  = lipgloss.NewStyle().Foreground(lipgloss.Yellow)
	held  = lipgloss.NewStyle().Foreground(lipgloss.Magenta)
	bad   = lipgloss.NewStyle().Foreground(lipgloss.Red)
	quiet = lipgloss.NewStyle().Foreground(lipgloss.BrightBlack)
)

var statusColours = map[string]lipgloss.Style{
	"online": good, "live": good, "delivered": good, "in force": good, "well": good,
	"away": fair, "idle": fair, "waiting": fair, "grace": fair, "see below": fair,
	"busy": held, "parked": bad, "revoked": bad, "offline": quiet,
}

func (s screen) status(text string) string {
	for word, style := range statusColours {
		if strings.HasPrefix(text, word) {
			return s.paint(style, text)
		}
	}
	return text
}
