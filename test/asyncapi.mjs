// Holds the description of the frames against AsyncAPI 3.0 itself.
//
// usage: node asyncapi.mjs FILE
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";

const { Parser } = createRequire(new URL("../web/package.json", import.meta.url))("@asyncapi/parser");
const { document, diagnostics } = await new Parser().parse(readFileSync(process.argv[2], "utf8"));
const wrong = diagnostics.filter((d) => d.severity === 0);
for (const d of wrong) console.error(`${d.path.join(".")}: ${d.message}`);
if (!document || wrong.length > 0) process.exit(1);
console.log(`${document.allMessages().all().length} messages`);
