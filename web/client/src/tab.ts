import { type Kept, Link, type LinkOptions, type Memory } from "./link";

const activityEvery = 20_000;
const inputs = ["pointerdown", "pointermove", "keydown", "wheel", "touchstart", "focus"] as const;

/** A tab's memory: sessionStorage outlives a reload and ends with the tab. */
function tabMemory(storage: Storage, name: string): Memory {
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

/**
 * Opens the session of this tab: it goes on over reloads, tells the service by beacon when the page goes
 * away, and comes back from the back/forward cache. Returns its link and what undoes it all.
 */
export function openTab(options: Omit<LinkOptions, "nonce" | "memory">): { link: Link; close: () => void } {
  const nonce = crypto.randomUUID();
  const memory = tabMemory(sessionStorage, "tovik.session");
  let lastActive = Date.now();
  const page = () => ({ hidden: document.visibilityState === "hidden", idle_for: Date.now() - lastActive });
  const link = new Link({ ...options, nonce, memory, page });

  // Any input counts, whatever it is done with; it is told at most each activityEvery.
  const active = () => {
    const now = Date.now();
    if (now - lastActive < activityEvery) return;
    lastActive = now;
    link.activity();
  };

  let away = false;
  const hide = () => {
    const kept = memory.load();
    if (kept && link.snapshot.state.word !== "closed") {
      away = true;
      navigator.sendBeacon(`${options.server}/v1/closing`, JSON.stringify({ ...kept, nonce }));
      link.close();
    }
  };
  const show = () => {
    if (away) link.retry();
    away = false;
  };
  const seen = () => {
    link.pageHidden(document.visibilityState === "hidden");
    retry();
  };
  const retry = () => {
    if (document.visibilityState === "visible" && link.snapshot.state.word === "lost") link.retry();
  };
  addEventListener("pagehide", hide);
  addEventListener("pageshow", show);
  addEventListener("online", retry);
  document.addEventListener("visibilitychange", seen);
  for (const input of inputs) addEventListener(input, active, { passive: true, capture: true });
  return {
    link,
    close() {
      removeEventListener("pagehide", hide);
      removeEventListener("pageshow", show);
      removeEventListener("online", retry);
      document.removeEventListener("visibilitychange", seen);
      for (const input of inputs) removeEventListener(input, active, { capture: true });
      link.close();
    },
  };
}
