import { describe, expect, test } from "vitest";
import type { Browser, Happening } from "./browser";
import { openTab } from "./tab";
import type { Socket } from "./transports";

const minute = 60_000;

/** A person's browser, in which a test plays what happens to each tab, and the service that they are linked to. */
class Played {
  now = 1_000_000;
  timers: { at: number; run: () => void }[] = [];
  pages: Page[] = [];

  page(storage = new Map<string, string>()): Page {
    const page = new Page(this, storage);
    this.pages.push(page);
    return page;
  }

  after = (ms: number, run: () => void) => {
    const timer = { at: this.now + ms, run };
    this.timers.push(timer);
    return () => {
      this.timers = this.timers.filter((t) => t !== timer);
    };
  };

  pass(ms: number): void {
    const end = this.now + ms;
    for (;;) {
      const next = this.timers.filter((t) => t.at <= end).sort((a, b) => a.at - b.at)[0];
      if (!next) break;
      this.timers = this.timers.filter((t) => t !== next);
      this.now = next.at;
      next.run();
    }
    this.now = end;
  }
}

class Page implements Browser {
  readonly listeners = new Map<Happening, Set<() => void>>();
  readonly beacons: string[] = [];
  readonly sent: Record<string, unknown>[] = [];
  links = 0;
  answers = true;
  isHidden = false;
  heard: ((what: unknown) => void) | undefined;

  constructor(
    readonly played: Played,
    readonly kept: Map<string, string>,
  ) {}

  readonly storage = {
    getItem: (name: string) => this.kept.get(name) ?? null,
    setItem: (name: string, value: string) => void this.kept.set(name, value),
    removeItem: (name: string) => void this.kept.delete(name),
  };
  // Plain methods, as a class has them: the library must call them on their object.
  now() {
    return this.played.now;
  }
  after(ms: number, run: () => void) {
    return this.played.after(ms, run);
  }
  pageHidden() {
    return this.isHidden;
  }
  on(happening: Happening, run: () => void) {
    const all = this.listeners.get(happening) ?? new Set();
    this.listeners.set(happening, all.add(run));
    return () => void all.delete(run);
  }
  happens(happening: Happening): void {
    for (const run of this.listeners.get(happening) ?? []) run();
  }
  beacon(_: string, body: string) {
    this.beacons.push(body);
  }
  channel(heard: (what: unknown) => void) {
    this.heard = heard;
    return {
      say: (what: unknown) => {
        for (const other of this.played.pages) if (other !== this) other.heard?.(what);
      },
      close: () => {
        this.heard = undefined;
      },
    };
  }

  open(user = "ilse", lock = false) {
    return openTab(
      {
        lock,
        server: "http://service.test",
        token: user,
        surroundings: {
          connect: () => this.connect(),
          after: (ms, run) => this.after(ms, run),
          random: () => 0,
        },
      },
      this,
    );
  }

  connect(): Socket {
    this.links++;
    const socket: Socket = {
      onopen: null,
      onmessage: null,
      onclose: null,
      send: (text) => this.take(socket, JSON.parse(text)),
      close: () => {},
    };
    this.after(0, () => socket.onopen?.());
    return socket;
  }

  take(socket: Socket, frame: Record<string, unknown>): void {
    this.sent.push(frame);
    if (!this.answers) return;
    const timings = { silence: 100 * minute, activity_every: 20_000, idle_after: 5 * minute };
    const opened = { session: "s-1", resume_key: "k", user: frame.token, timings };
    const answer = { type: "answer", re: frame.id, ...(frame.type === "hello" ? opened : {}) };
    socket.onmessage?.({ data: JSON.stringify(answer) });
  }

  told(type: string) {
    return this.sent.filter((frame) => frame.type === type);
  }
}

describe("idleness", () => {
  test("ends with input at once, and is told of at most each activity_every, with the time since", () => {
    const world = new Played();
    const page = world.page();
    page.open();
    world.pass(1000);
    for (let i = 0; i < 190; i++) {
      page.happens("input");
      world.pass(100); // 19 s of input
    }
    expect(page.told("activity").map((a) => a.idle_for)).toEqual([0]);
    world.pass(minute);
    expect(page.told("activity").map((a) => a.idle_for)).toEqual([0, 1100]);
    world.pass(5 * minute);
    page.happens("input");
    expect(page.told("activity")).toHaveLength(3);
  });

  test("does not come to one tab while the person is active in another of this browser", () => {
    const world = new Played();
    const [here, there] = [world.page(), world.page()];
    const elsewhere = world.page();
    here.open();
    there.open();
    elsewhere.open("tobin");
    world.pass(minute);
    here.happens("input");
    expect(there.told("activity")).toHaveLength(1);
    expect(elsewhere.told("activity")).toHaveLength(0);
  });

  test("comes at once with a locked screen, and goes with the next input", () => {
    const world = new Played();
    const page = world.page();
    page.open("ilse", true);
    world.pass(1000);
    page.happens("input");
    page.happens("lock");
    expect(page.told("idle")).toHaveLength(1);
    page.happens("hide");
    page.happens("show");
    world.pass(1000);
    expect(page.told("hello")[1]).toMatchObject({ idle_for: 5 * minute }); // another link changes nothing
    page.happens("input");
    expect(page.told("activity").map((a) => a.idle_for)).toEqual([0, 0]);
  });

  test("is not ended by a reload that nobody has asked for", () => {
    const world = new Played();
    const before = world.page();
    before.open();
    world.pass(4 * minute);
    before.happens("hide");
    const next = world.page(before.kept);
    next.open();
    world.pass(0);
    expect(next.told("hello")[0]).toMatchObject({
      idle_for: 4 * minute,
      resume: { session: "s-1", resume_key: "k" },
    });
  });
});

describe("a tab", () => {
  test("says that it closes, with its session, and comes back from the cache of pages", () => {
    const world = new Played();
    const page = world.page();
    const tab = page.open();
    world.pass(0);
    page.happens("hide");
    expect(JSON.parse(page.beacons[0] ?? "")).toMatchObject({ session: "s-1", resume_key: "k" });
    expect(tab.link.snapshot.state.word).toBe("closed");
    page.happens("show");
    world.pass(0);
    expect(tab.link.snapshot.state.word).toBe("open");
    expect(page.told("hello")).toHaveLength(2);
  });

  test("looks whether its link is alive when it is shown, or has thawed, or is online again", () => {
    const world = new Played();
    const page = world.page();
    const tab = page.open();
    world.pass(0);
    page.isHidden = true;
    page.happens("visibility");
    expect(page.told("page").at(-1)).toMatchObject({ page_hidden: true });
    page.answers = false; // the network has changed, and nobody has noticed
    for (const happening of ["visibility", "thaw", "online"] as const) {
      page.isHidden = false;
      page.happens(happening);
      expect(page.sent.at(-1)).toMatchObject({ type: "beat" });
    }
    world.pass(2999);
    expect(page.links).toBe(1);
    page.answers = true;
    world.pass(1);
    world.pass(0);
    expect(page.links).toBe(2);
    expect(tab.link.snapshot.state.word).toBe("open");
  });

  test("leaves nothing behind when it is closed", () => {
    const world = new Played();
    const page = world.page();
    const tab = page.open();
    world.pass(0);
    page.happens("input");
    page.happens("input");
    tab.close();
    expect([...page.listeners.values()].every((set) => set.size === 0)).toBe(true);
    expect(world.timers).toEqual([]);
    expect(page.heard).toBeUndefined();
  });
});
