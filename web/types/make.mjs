// Makes the TypeScript types of what the service sends and takes: those of its HTTP API from wire/openapi.json, those
// of the frames of a link from wire/asyncapi.yaml. With --check it writes nothing and fails if a file is not current.
//
// It is a package of its own, because openapi-typescript needs an older TypeScript than the pages.

import { readFile, writeFile } from "node:fs/promises";
import openapiTS, { astToString } from "openapi-typescript";
import { parse } from "yaml";

const root = new URL("../../", import.meta.url);

const head = (from) => `// Made from ${from} by web/types/make.mjs (make types); do not edit.\n\n`;

/** What openapi-typescript makes of a document, without what is empty. */
async function types(document) {
  const all = astToString(
    await openapiTS(document, { immutable: true, alphabetize: false, exportType: false }),
  );
  return all.replaceAll(/^export type (paths|webhooks|\$defs|operations) = .*;\n/gm, "");
}

const openapi = JSON.parse(await readFile(new URL("wire/openapi.json", root), "utf8"));
const asyncapi = parse(await readFile(new URL("wire/asyncapi.yaml", root), "utf8"));
const schemasOnly = (document) => ({
  openapi: "3.1.0",
  info: { title: "", version: "" },
  paths: {},
  components: { schemas: document.components.schemas },
});

const made = {
  "web/client/src/api-types.ts": head("wire/openapi.json") + (await types(openapi)),
  "web/client/src/frames.ts": head("wire/asyncapi.yaml") + (await types(schemasOnly(asyncapi))),
};

const check = process.argv.includes("--check");
for (const [name, text] of Object.entries(made)) {
  const file = new URL(name, root);
  if (!check) {
    await writeFile(file, text);
    continue;
  }
  const present = await readFile(file, "utf8").catch(() => "");
  if (present !== text) {
    console.error(`${name} is out of date; to generate it, run: make types`);
    process.exitCode = 1;
  }
}
