// The search of the documentation. The index is fetched when somebody begins to search.

import MiniSearch from "minisearch";

const input = document.querySelector("search input");
const list = document.querySelector("#found");
const most = 12;

let index;
async function load() {
  const entries = await (await fetch("/docs/search.json")).json();
  const made = new MiniSearch({
    fields: ["title", "text", "page"],
    storeFields: ["title", "page", "text", "address"],
    searchOptions: { boost: { title: 4, page: 2 }, prefix: true, fuzzy: 0.15, combineWith: "AND" },
  });
  made.addAll(entries);
  return made;
}

/** The part of a text around the first of some words. */
function around(text, words) {
  const at = Math.max(0, ...words.map((word) => text.toLowerCase().indexOf(word)));
  const from = Math.max(0, at - 60);
  return `${from > 0 ? "… " : ""}${text.slice(from, from + 160)}…`;
}

async function search() {
  const wanted = input.value.trim();
  index ??= load();
  const found = wanted ? (await index).search(wanted).slice(0, most) : [];
  if (input.value.trim() !== wanted) return; // it has changed meanwhile
  list.replaceChildren(
    ...found.map(({ title, page, text, address, terms }) => {
      const link = document.createElement("a");
      link.href = address;
      const where = document.createElement("strong");
      where.textContent = title === page ? title : `${page}: ${title}`;
      const what = document.createElement("span");
      what.textContent = around(text, terms);
      link.append(where, what);
      const item = document.createElement("li");
      item.append(link);
      return item;
    }),
  );
  if (wanted && found.length === 0) {
    const item = document.createElement("li");
    item.textContent = `Nothing about “${wanted}”.`;
    list.append(item);
  }
  list.hidden = wanted === "";
}

input.addEventListener("input", search);
if (input.value) search(); // typed before the script was there
document.addEventListener("keydown", (event) => {
  const links = [...list.querySelectorAll("a")];
  const at = links.indexOf(document.activeElement);
  if (event.key === "/" && document.activeElement !== input) input.focus();
  else if (event.key === "Escape") {
    input.value = "";
    list.hidden = true;
  } else if (event.key === "ArrowDown" && !list.hidden) links[at + 1]?.focus();
  else if (event.key === "ArrowUp" && at >= 0) (links[at - 1] ?? input).focus();
  else if (event.key === "Enter" && document.activeElement === input && links[0])
    location.href = links[0].href;
  else return;
  event.preventDefault();
});
document.addEventListener("click", (event) => {
  if (!event.target.closest("search") || event.target.closest("#found a")) list.hidden = true;
});
