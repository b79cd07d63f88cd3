// What a page of the site has in it. The HTML is that of markdown-it, so that simple expressions find everything.

const plain = (html) =>
  html
    .replace(/<[^>]+>/g, " ")
    .replace(/&lt;/g, "<")
    .replace(/&gt;/g, ">")
    .replace(/&quot;/g, '"')
    .replace(/&amp;/g, "&")
    .replace(/\s+/g, " ")
    .trim();

const heading = /<h([1-4]) id="([^"]*)"[^>]*>(.*?)<\/h\1>/gs;

/** The sections of a page: its headings, with the text up to the next one. */
export function sections(html) {
  const main = html.match(/<article>(.*)<\/article>/s)?.[1] ?? html;
  const found = [...main.matchAll(heading)];
  return found.map((match, i) => ({
    level: Number(match[1]),
    id: match[2],
    title: plain(match[3]),
    text: plain(main.slice(match.index + match[0].length, found[i + 1]?.index)),
  }));
}

/** The links of a page, and the ids to which others can link. */
export function targets(html) {
  return {
    links: [...html.matchAll(/ (?:href|src)="([^"]*)"/g)].map((match) => match[1]),
    ids: new Set([...html.matchAll(/ id="([^"]*)"/g)].map((match) => match[1])),
  };
}
