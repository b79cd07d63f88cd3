// A client of its own for tovik conform, which follows docs/protocol.md, or with BREAKS=RULE breaks one rule of it.
import { existsSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { createInterface } from "node:readline";
import WebSocket from "../../web/node_modules/ws/wrapper.mjs";

const { SERVER, TOKENS, ROOM, STATE, BREAKS } = process.env;
const keeps = (rule) => BREAKS !== rule;
const passing = ["hello-timeout", "too-fast", "too-many-links", "busy", "not-ready", "internal", "quota-reached"];

const run = crypto.randomUUID();
let kept = existsSync(STATE) ? JSON.parse(readFileSync(STATE, "utf8")) : undefined;
let state = "connecting";
let rev;
let members = new Map();
let failures = 0;
let socket;
let silence;

function report(now = state) {
  state = now;
  console.log(JSON.stringify({ state, members: [...members.keys()] }));
}

function say(frame) {
  if (socket.readyState === WebSocket.OPEN) socket.send(JSON.stringify(frame));
}

async function connect() {
  const token = await (await fetch(TOKENS)).text();
  let refused;
  let moving;
  let timer;
  const link = new WebSocket(`${SERVER.replace(/^http/, "ws")}/v1/link`);
  socket = link;
  const heard = () => {
    clearTimeout(timer);
    if (silence && keeps("service.silence")) timer = setTimeout(() => link.terminate(), silence);
  };
  link.on("error", () => {});
  link.on("open", () =>
    say({
      type: "hello",
      id: keeps("frames.id") ? 1 : 1.5,
      version: 1,
      token,
      nonce: keeps("hello.nonce") ? run : crypto.randomUUID(),
      rooms: [ROOM],
      ...(kept && keeps("hello.resume") && { resume: kept }),
      ...(rev && keeps("resuming.revs") && { revs: { [ROOM]: rev } }),
    }),
  );
  link.on("message", (data) => {
    heard();
    const frame = JSON.parse(data);
    switch (frame.type) {
      case "beat":
        if (keeps("service.beat")) say({ type: "beat" });
        break;
      case "answer":
        if (!frame.timings) break;
        kept = { session: frame.session, resume_key: frame.resume_key };
        writeFileSync(STATE, JSON.stringify(kept));
        ({ silence } = frame.timings);
        failures = 0;
        report("open");
        break;
      case "error":
        if (state !== "open") refused = frame.code;
        break;
      case "expiring":
        if (keeps("service.expiring"))
          fetch(TOKENS).then(async (answer) => say({ type: "renew", id: 3, token: await answer.text() }));
        break;
      case "moving":
        if (keeps(state === "open" ? "service.moving" : "service.no-place")) moving = frame.after;
        break;
      case "dropped":
        if (frame.room === ROOM && keeps("list.dropped")) members.clear();
        report();
        break;
      case "snapshot":
        if (frame.room !== ROOM) break;
        if (keeps("list.snapshot-again")) members = new Map();
        ({ rev } = frame);
        for (const m of frame.members) members.set(m.user, m);
        report();
        break;
      case "changes":
        if (frame.room !== ROOM) break;
        if (frame.prev !== rev && keeps("list.gap")) {
          say({ type: "watch", id: 4, room: ROOM });
          break;
        }
        ({ rev } = frame);
        for (const m of frame.joined ?? []) members.set(m.user, m);
        for (const m of frame.changed ?? [])
          if (keeps("list.changed") || members.has(m.user)) members.set(m.user, m);
        for (const d of frame.left ?? []) members.delete(d.user);
        report();
        break;
    }
  });
  link.on("close", (code) => {
    clearTimeout(timer);
    if (code === 1000 && keeps("requests.bye")) return report("closed");
    if (code === 4706 && keeps("closed.4706")) return report("closed");
    if (refused && !passing.includes(refused) && keeps("errors.final")) return report("refused");
    report("lost");
    const pause = failures === 0 ? 0 : Math.min(10_000, 250 * 2 ** failures) * (0.5 + Math.random() / 2);
    failures++;
    setTimeout(connect, keeps("errors.pauses") ? (moving ?? pause) : 0);
  });
}

report();
connect();
createInterface({ input: process.stdin }).on("line", (line) => {
  if (line !== "bye") return;
  rmSync(STATE, { force: true });
  kept = undefined;
  say({ type: "bye", id: 2 });
});
