// A client that is not ours: written from docs/protocol.md alone, on the npm package ws. Two links of two
// people; the first keeps a list from the frames it gets and ends with the service's list.
//
// usage: node independent.mjs SERVER KEY TOKEN_ONE TOKEN_TWO
import assert from "node:assert/strict";
import { createRequire } from "node:module";

const WebSocket = createRequire(new URL("../web/package.json", import.meta.url))("ws");
const [server, key, tokenOne, tokenTwo] = process.argv.slice(2);
const room = "basin.upper-weir";

class Client {
  constructor() {
    this.socket = new WebSocket(`${server.replace("http", "ws")}/v1/link`);
    this.waiting = new Map();
    this.opened = new Promise((done) => this.socket.once("open", done));
    this.closed = new Promise((done) => this.socket.once("close", (code) => done(code)));
    this.watchers = [];
    this.rev = undefined;
    this.members = new Map();
    this.numbered = 0;
    this.socket.on("message", (data) => this.receive(JSON.parse(data)));
  }

  receive(frame) {
    if (frame.type === "beat") this.socket.send(JSON.stringify({ type: "beat" }));
    if (frame.type === "answer" || frame.type === "error") this.waiting.get(frame.re)?.(frame);
    if (frame.type === "snapshot") {
      this.rev = frame.rev;
      this.members = new Map(frame.members.map((m) => [m.user, m]));
    }
    if (frame.type === "changes") {
      assert.equal(frame.prev, this.rev, "changes follow what was there");
      for (const m of [...(frame.joined ?? []), ...(frame.changed ?? [])]) this.members.set(m.user, m);
      for (const d of frame.left ?? []) this.members.delete(d.user);
      this.rev = frame.rev;
      this.numbered++;
    }
    this.watchers = this.watchers.filter((check) => !check());
  }

  async ask(frame) {
    await this.opened;
    const id = this.waiting.size + 1;
    const answer = new Promise((done) => this.waiting.set(id, done));
    this.socket.send(JSON.stringify({ ...frame, id }));
    return answer;
  }

  // until resolves as soon as a frame has made the condition true.
  until(condition) {
    return new Promise((done) => {
      const check = () => condition() && (done(), true);
      if (!check()) this.watchers.push(check);
    });
  }
}

const one = new Client();
const opened = await one.ask({ type: "hello", version: 1, token: tokenOne, nonce: "a" });
assert.equal(opened.type, "answer");
assert.equal((await one.ask({ type: "join", room })).type, "answer");
await one.until(() => one.members.has(opened.user));

const two = new Client();
const other = await two.ask({ type: "hello", version: 1, token: tokenTwo, nonce: "b" });
const asked = performance.now();
await Promise.all([two.ask({ type: "join", room }), one.until(() => one.members.has(other.user))]);
const milliseconds = performance.now() - asked;

assert.equal((await two.ask({ type: "jion", room })).code, "unknown-type");
assert.equal((await two.ask({ type: "bye" })).type, "answer");
assert.equal(await two.closed, 1000);
await one.until(() => !one.members.has(other.user));
assert.ok(one.numbered >= 2, "numbered changes were applied");

const response = await fetch(`${server}/v1/rooms/${room}/members`, { headers: { Authorization: `Bearer ${key}` } });
const list = await response.json();
const mine = () => [...one.members.values()].sort((a, b) => (a.user < b.user ? -1 : 1));
await one.until(() => JSON.stringify(mine()) === JSON.stringify(list.members));
assert.equal(list.count.people, list.members.length);
console.log(JSON.stringify({ milliseconds, members: list.members.length }));
one.socket.close();
