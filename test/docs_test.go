package test

import (
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"go/parser"
	"go/token"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"tovik.example/tovik/internal/cluster/clustertest"
	"tovik.example/tovik/test/chrome"
)

// TestTheDocumentationIsASite reads each page at /docs, and searches. That each link leads somewhere, the build of the
// site checks.
func TestTheDocumentationIsASite(t *testing.T) {
	t.Parallel()
	s := serve(t)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	page := open(t, browser, s.URL(), "/docs")
	page.until(says("h1", "Tovik"))
	const links = `[...document.querySelectorAll("nav[aria-label=Pages] a")]`
	var pages []string
	page.run(`document.title = ` + links + `.map((a) => a.getAttribute("href")).join(" "); undefined`)
	page.until(`document.title.includes("/docs/cluster")`)
	pages = strings.Fields(page.text("title"))
	require.Greater(t, len(pages), 10)
	for _, path := range pages {
		page.run(fmt.Sprintf(`%s.find((a) => a.getAttribute("href") === %q).click(); undefined`, links, path))
		page.until(fmt.Sprintf(`location.pathname === %q && document.readyState === "complete" && document.querySelector("[aria-current]").getAttribute("href") === %q`, path, path))
		page.until(`[...document.images].every((image) => image.complete && image.naturalWidth > 0)`)
	}
	page.accessible()
	page.run(`document.dispatchEvent(new KeyboardEvent("keydown", { key: "/" })); undefined`)
	page.until(`document.activeElement.type === "search"`)
	page.write("search input", "power loss")
	page.until(`document.querySelectorAll("#found a").length > 2`)
	page.run(`[...document.querySelectorAll("#found a")].find((a) => a.textContent.includes("After a crash")).click(); undefined`)
	// A page that is still loading takes the focus away when it goes to the part in its address.
	page.until(`location.pathname === "/docs/operations" && location.hash === "#after-a-crash" && document.readyState === "complete"`)
	page.write("search input", "zeppelin")
	page.until(says("#found", "Nothing about"))
	require.Empty(t, page.complaints.List())

	response, err := http.Get(s.URL() + "/docs/quickstart")
	require.NoError(t, err)
	defer response.Body.Close()
	require.Contains(t, response.Header.Get("Content-Security-Policy"), "default-src 'none'")
}

var blockOf = regexp.MustCompile("(?ms)^```(\\w*)\n(.*?)^```$")

// TestEachBlockOfTheDocumentationIsWellFormed reads each block of code in its language. Those of the quickstart, the
// protocol and the page about Node are run by other tests.
func TestEachBlockOfTheDocumentationIsWellFormed(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	dir, counts := t.TempDir(), map[string]int{}
	modules, err := filepath.Abs("../web/node_modules")
	require.NoError(t, err)
	require.NoError(t, os.Symlink(modules, filepath.Join(dir, "node_modules")))
	in := func(input string, name string, args ...string) error {
		cmd := exec.CommandContext(t.Context(), name, args...)
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(input)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}
	publicKey(t, filepath.Join(dir, "watch-house.pem"))
	nodes := clustertest.NewAuthority(t)
	nodes.Node("dipper")
	for name, file := range map[string]string{"dipper.pem": filepath.Join(nodes.Dir, "dipper.pem"), "dipper.key": filepath.Join(nodes.Dir, "dipper.key"), "nodes.pem": nodes.File} {
		require.NoError(t, os.Symlink(file, filepath.Join(dir, name)))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tovik.creds"), nil, 0o600))
	const parse = `import { transformWithOxc } from "vite"; import { text } from "node:stream/consumers"; await transformWithOxc(await text(process.stdin), "block.jsx")`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "parse.mjs"), []byte(parse), 0o600))
	readers := map[string]func(string) error{
		"js":  func(text string) error { return in(text, "node", "parse.mjs") },
		"jsx": func(text string) error { return in(text, "node", "parse.mjs") },
		"html": func(text string) error {
			return in(between(text, `<script type="module">`, "</script>"), "node", "parse.mjs")
		},
		"sh": func(text string) error { return in(text, "sh", "-n") },
		"":   func(text string) error { return in(strings.NewReplacer("[", "", "]", "").Replace(text), "sh", "-n") },
		"go": func(text string) error {
			_, err := parser.ParseFile(token.NewFileSet(), "", "package p\nfunc _() {\n"+text+"}\n", 0)
			return err
		},
		"json": func(text string) error {
			text = strings.NewReplacer("{…}", "{}", "[…]", "[]").Replace(text)
			for decoder := json.NewDecoder(strings.NewReader(text)); ; {
				var any any
				if err := decoder.Decode(&any); err != nil {
					return whole(err)
				}
			}
		},
		"yaml": func(text string) error { return yaml.Unmarshal([]byte(text), new(any)) },
		"toml": func(text string) error {
			file := filepath.Join(dir, "tovik.toml")
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			_, errs, code := run(t, nil, "config", "check", file)
			if code != 0 {
				return fmt.Errorf("%s", errs)
			}
			return nil
		},
		"python": func(text string) error {
			return in(text, "python3", "-c", "import ast, sys; ast.parse(sys.stdin.read())")
		},
	}
	for _, file := range append(files, "../README.md") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, block := range blockOf.FindAllStringSubmatch(string(text), -1) {
			read := readers[block[1]]
			require.NotNil(t, read, "%s: a block in %s", file, block[1])
			require.NoError(t, read(block[2]), "%s:\n%s", file, block[2])
			counts[block[1]]++
		}
	}
	for language := range readers {
		require.Positive(t, counts[language], "no block in %q is left", language)
	}
}

func between(text, from, to string) string {
	_, text, _ = strings.Cut(text, from)
	text, _, _ = strings.Cut(text, to)
	return text
}

func whole(err error) error {
	if err == io.EOF {
		return nil
	}
	return err
}

// publicKey makes a key pair, and writes the public half into a file.
func publicKey(t *testing.T, file string) {
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	text, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: text}), 0o600))
}
