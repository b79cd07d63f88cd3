// The browser library as a program for tovik conform: what a page has, it has from Node.
import { readFileSync, rmSync, writeFileSync } from "node:fs";
import { createInterface } from "node:readline";
import { Link } from "../../web/client/dist/tovik.js";
import WebSocket from "../../web/node_modules/ws/wrapper.mjs";

const { SERVER, TOKENS, ROOM, STATE } = process.env;

const memory = {
  load() {
    try {
      return JSON.parse(readFileSync(STATE, "utf8"));
    } catch {
      return undefined;
    }
  },
  save: (kept) => (kept ? writeFileSync(STATE, JSON.stringify(kept)) : rmSync(STATE, { force: true })),
};
const surroundings = {
  webSocketOnly: true,
  connect(url) {
    const socket = new WebSocket(url);
    socket.on("error", () => {});
    return socket;
  },
  after(ms, run) {
    const timer = setTimeout(run, ms);
    return () => clearTimeout(timer);
  },
  random: Math.random,
};
const token = async () => (await fetch(TOKENS)).text();
const link = new Link({ server: SERVER, token, rooms: [ROOM], memory, surroundings, nonce: crypto.randomUUID() });

const report = () => {
  const { state, rooms } = link.snapshot;
  console.log(JSON.stringify({ state: state.word, members: [...(rooms.get(ROOM)?.members?.keys() ?? [])] }));
};
link.subscribe(report);
report();
createInterface({ input: process.stdin }).on("line", (line) => line === "bye" && link.bye());
