// Builds the documentation into one site, which the service serves at /docs: the pages of docs/, the README, the changes,
// and the examples of deploy/. Links between the files of the repository become links between pages, and a link that leads
// nowhere fails the build.

import { readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { join, posix } from "node:path";
import hljs from "highlight.js";
import markdownIt from "markdown-it";
import anchors from "markdown-it-anchor";
import { build } from "vite";
import { sections, targets } from "./content.mjs";

const root = "/docs";
const output = "web/docs/dist";

/** The pages in the order in which they are listed, by the path of their file in the repository. */
const pages = [
  { file: "README.md", slug: "", name: "Tovik" },
  { file: "docs/quickstart.md", slug: "quickstart", name: "Quickstart" },
  { file: "docs/integrate.md", slug: "integrate", name: "Integrating" },
  { file: "docs/node.md", slug: "node", name: "A back end in Node" },
  { file: "docs/protocol.md", slug: "protocol", name: "The protocol" },
  { file: "docs/operations.md", slug: "operations", name: "Running it" },
  { file: "docs/configuration.md", slug: "configuration", name: "Configuration" },
  { file: "docs/cluster.md", slug: "cluster", name: "Several nodes" },
  { file: "docs/security.md", slug: "security", name: "Security" },
  { file: "docs/design.md", slug: "design", name: "Design" },
  { file: "deploy", slug: "deploy", name: "Examples" },
  { file: "CHANGELOG.md", slug: "changes", name: "Changes" },
  { file: "SECURITY.md", slug: "reporting", name: "Reporting a weakness" },
];

/** Files that the service serves itself. */
const served = { "wire/openapi.json": "/openapi.json", "wire/asyncapi.yaml": "/asyncapi.yaml" };

/** Files that are copied. */
const copied = {
  "docs/screenshots": "screenshots",
  "docs/growth": "growth",
  "docs/floors.svg": "floors.svg",
  "bench/latest.json": "latest.json",
  LICENSE: "LICENSE",
  "test/conform/client.mjs": "client.mjs",
};

/** The ids of headings, as GitHub makes them. */
const slugify = (text) =>
  text
    .trim()
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s_-]/gu, "")
    .replace(/\s/g, "-");

const address = (slug) => (slug ? `${root}/${slug}` : root);

/** Where a link of a file of the repository leads on the site. */
function resolve(link, from) {
  if (/^[a-z]+:/.test(link) || link.startsWith("#")) return link;
  const [path, hash] = link.split("#");
  const file = posix.normalize(posix.join(posix.dirname(from), path)).replace(/\/$/, "");
  const fragment = hash ? `#${hash}` : "";
  if (served[file]) return served[file];
  const page = pages.find((p) => p.file === file);
  if (page) return address(page.slug) + fragment;
  if (file.startsWith("deploy/"))
    return `${root}/deploy#${slugify(statSync(file).isDirectory() ? `${file}/` : file)}`;
  for (const [source, to] of Object.entries(copied))
    if (file === source || file.startsWith(`${source}/`)) return `${root}/${to}${file.slice(source.length)}`;
  throw new Error(`${from} links to ${link}, which is not on the site`);
}

/** What of deploy/ is for make dist only. */
const packaging = ["debian", "package.sh"];

/** The examples of deploy/ as one page. */
function examples(folder = "deploy") {
  const languages = { yml: "yaml", json: "json", service: "ini", conf: "nginx" };
  return readdirSync(folder, { withFileTypes: true })
    .map((entry) => {
      const file = `${folder}/${entry.name}`;
      if (packaging.includes(entry.name)) return "";
      if (entry.isDirectory()) return `## ${file}/\n\n${examples(file)}`;
      if (entry.name === "dashboard.json") return `## ${file}\n\nA dashboard to import into Grafana.\n`;
      const language = languages[entry.name.split(".").at(-1)] ?? "";
      return `## ${file}\n\n\`\`\`${language}\n${readFileSync(file, "utf8")}\`\`\`\n`;
    })
    .join("\n");
}

const highlight = (text, language) =>
  hljs.getLanguage(language) ? hljs.highlight(text, { language }).value : "";

const markdown = markdownIt({ html: true, highlight }).use(anchors, {
  slugify,
  permalink: anchors.permalink.headerLink(),
});
markdown.core.ruler.push("links", (state) => {
  for (const token of state.tokens.flatMap((t) => [t, ...(t.children ?? [])])) {
    const name = { link_open: "href", image: "src" }[token.type];
    if (name) token.attrSet(name, resolve(token.attrGet(name), state.env.from));
  }
});

export default function site(config) {
  config.setInputDirectory("web/docs");
  config.setIncludesDirectory("layouts");
  config.setOutputDirectory(output);
  config.setLibrary("md", markdown);
  config.amendLibrary("md", (library) => library.enable("code"));
  for (const { file, slug, name } of pages) {
    const text = file === "deploy" ? `# Examples\n\n${examples()}` : readFileSync(file, "utf8");
    const data = { layout: "page.njk", permalink: `${slug || "index"}.html`, name, slug, from: file };
    config.addTemplate(`${slug || "index"}.md`, text, data);
  }
  config.addGlobalData("root", root);
  config.addGlobalData(
    "pages",
    pages.map(({ slug, name }) => ({ name, slug, address: address(slug) })),
  );
  config.addFilter("headings", (html) => sections(html).filter((s) => s.level === 2));
  for (const [source, to] of Object.entries({
    ...copied,
    "web/docs/docs.css": "docs.css",
    "web/console/src/colours.css": "colours.css",
    "web/console/src/mark.svg": "mark.svg",
  }))
    config.addPassthroughCopy({ [source]: to });
  config.on("eleventy.before", () => {
    for (const name of readdirSync(output)) if (name.endsWith(".html")) rmSync(join(output, name));
  });
  config.on("eleventy.after", async ({ results }) => {
    check(results);
    const index = results.flatMap(({ url, content }) => {
      const slug = url.replace(/^\/|(index)?\.html$|\/$/g, "");
      const page = pages.find((p) => p.slug === slug);
      return sections(content).map(({ id, title, text }, i) => ({
        id: `${slug}#${i}`,
        page: page.name,
        title,
        text,
        address: address(slug) + (i > 0 ? `#${id}` : ""),
      }));
    });
    writeFileSync(join(output, "search.json"), JSON.stringify(index));
    await build({
      configFile: false,
      logLevel: "warn",
      build: {
        outDir: output,
        emptyOutDir: false,
        lib: { entry: "web/docs/search.mjs", formats: ["es"], fileName: () => "search.js" },
      },
    });
  });
  return { templateFormats: ["md"], markdownTemplateEngine: false };
}

/** Fails if a link within the site leads to no page, or to no place in a page. */
function check(results) {
  const known = new Map(
    results.map(({ url, content }) => [
      address(url.replace(/^\/|(index)?\.html$|\/$/g, "")),
      targets(content),
    ]),
  );
  for (const [from, { links }] of known) {
    for (const link of links) {
      if (!link.startsWith("#") && !link.startsWith(root)) continue;
      const [path, hash] = link.split("#");
      const page = known.get(path || from);
      const isFile = Object.values(copied).some((to) => path.startsWith(`${root}/${to}`));
      if (
        isFile ||
        ["docs.css", "colours.css", "search.js", "mark.svg"].some((name) => path === `${root}/${name}`)
      )
        continue;
      if (!page || (hash && !page.ids.has(hash)))
        throw new Error(`${from} links to ${link}, which does not exist`);
    }
  }
}
