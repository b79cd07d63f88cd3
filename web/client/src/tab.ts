import { type Browser, browser } from "./browser";
import { Idleness } from "./idleness";
import { type Kept, Link, type LinkOptions, type Memory } from "./link";

/** Stores the session of a tab. */
function memoryIn(storage: Browser["storage"], name: string): Memory {
  return {
    load() {
      try {
        return JSON.parse(storage.getItem(name) ?? "null") ?? undefined;
      } catch {
        return undefined; // somebody else's value: as good as none
      }
    },
    save(kept: Kept | undefined) {
      if (kept) storage.setItem(name, JSON.stringify(kept));
      else storage.removeItem(name);
    },
  };
}

/** Storage keys of a tab's session, and of the time of the last input. */
const sessionName = "tovik.session";
const activeName = "tovik.active";

/** A message between pages of the same browser. */
interface Said {
  readonly server: string;
  readonly user: string;
  readonly active: number;
}

/** An open tab: its link, and a function that closes it. */
export interface Tab {
  readonly link: Link;
  close(): void;
}

/** The options of a tab. */
export interface TabOptions extends Omit<LinkOptions, "nonce" | "memory" | "page"> {
  /**
   * A locked screen makes the session idle at once, if the browser reports it and the page has the permission
   * `idle-detection`. Such a page is not kept in the back/forward cache.
   */
  readonly lock?: boolean;
}

/**
 * Opens the session of this tab. The session continues over reloads, the back/forward cache and freezing, and a
 * beacon reports that the page is closing. Input of any kind, in all frames of the page and in the person's other
 * tabs in this browser, keeps it from becoming idle.
 */
export function openTab(options: TabOptions, within: Browser = browser): Tab {
  const nonce = crypto.randomUUID();
  const memory = memoryIn(within.storage, sessionName);
  // The first load of the page is activity; a reload may happen without anybody.
  const before = memory.load() ? Number(within.storage.getItem(activeName)) : 0;
  const page = () => ({ page_hidden: within.pageHidden(), idle_for: idleness.idleFor });
  // What the link does at once it does before there is somebody to ask.
  const idleness: Idleness = new Idleness(
    {
      get snapshot() {
        return link.snapshot;
      },
      activity: (idleFor) => link.activity(idleFor),
      idle: () => link.idle(),
    },
    () => within.now(),
    (ms, run) => within.after(ms, run),
    before || within.now(),
  );
  const link = new Link({ ...options, nonce, memory, page });

  let shared = 0;
  const others = within.channel((what) => {
    const { server, user, active } = what as Said;
    if (server === options.server && user === link.snapshot.opened?.user) idleness.active(active);
  });
  const active = () => {
    idleness.active();
    const user = link.snapshot.opened?.user;
    if (user && within.now() - shared >= shareEvery) {
      shared = within.now();
      others.say({ server: options.server, user, active: shared } satisfies Said);
    }
  };

  let away = false;
  const hide = () => {
    within.storage.setItem(activeName, String(idleness.last));
    const kept = memory.load();
    if (!kept || link.snapshot.state.word === "closed") return;
    away = true;
    within.beacon(`${options.server.replace(/\/+$/, "")}/v1/closing`, JSON.stringify({ ...kept, nonce }));
    link.close();
  };
  const show = () => {
    if (away) link.retry();
    away = false;
  };
  const seen = () => {
    link.pageHidden(within.pageHidden());
    if (!within.pageHidden()) link.check();
  };
  const undo = [
    within.on("input", active),
    within.on("hide", hide),
    within.on("show", show),
    within.on("visibility", seen),
    within.on("online", () => link.check()),
    within.on("thaw", () => link.check()),
  ];
  if (options.lock) undo.push(within.on("lock", () => idleness.gone()));
  return {
    link,
    close() {
      for (const one of undo) one();
      others.close();
      idleness.close();
      link.close();
    },
  };
}

/** The shortest interval in which other tabs are told of input. */
const shareEvery = 5000;
