/** An event in the life of a page. */
export type Happening = "input" | "hide" | "show" | "visibility" | "online" | "thaw" | "lock";

/** What a tab needs from its browser. A page has it; a test, or a page that simulates tabs, passes its own. */
export interface Browser {
  /** Storage that survives a reload and ends with the tab. */
  readonly storage: Pick<Storage, "getItem" | "setItem" | "removeItem">;
  now(): number;
  after(ms: number, run: () => void): () => void;
  pageHidden(): boolean;
  /** Calls back at each event. Returns a function that stops it. */
  on(happening: Happening, run: () => void): () => void;
  /** Sends a last request, even while the page goes away. */
  beacon(url: string, body: string): void;
  /** Sends messages to the browser's other pages of the same origin, and receives theirs. */
  channel(heard: (what: unknown) => void): { say(what: unknown): void; close(): void };
}

const inputs = [
  "pointerdown",
  "pointermove",
  "keydown",
  "wheel",
  "touchstart",
  "touchmove",
  "focus",
] as const;

/** The browser of this page. */
export const browser: Browser = {
  get storage() {
    return sessionStorage;
  },
  now: Date.now,
  after(ms, run) {
    const timer = setTimeout(run, ms);
    return () => clearTimeout(timer);
  },
  pageHidden: () => document.visibilityState === "hidden",
  on(happening, run) {
    switch (happening) {
      case "input":
        return hearInput(window, run);
      case "hide":
        return hear(window, ["pagehide"], run);
      case "show":
        return hear(window, ["pageshow"], run);
      case "visibility":
        return hear(document, ["visibilitychange"], run);
      case "online":
        return hear(window, ["online"], run);
      case "thaw":
        return hear(document, ["resume"], run);
      case "lock":
        return hearLock(run);
    }
  },
  beacon: (url, body) => void navigator.sendBeacon(url, body),
  channel(heard) {
    const channel = new BroadcastChannel("tovik");
    channel.onmessage = ({ data }) => heard(data);
    return { say: (what) => channel.postMessage(what), close: () => channel.close() };
  },
};

function hear(target: EventTarget, events: readonly string[], run: () => void): () => void {
  const options = { passive: true, capture: true };
  for (const event of events) target.addEventListener(event, run, options);
  return () => {
    for (const event of events) target.removeEventListener(event, run, options);
  };
}

/**
 * Calls back at input in a page and in its frames. In a frame of another origin it notices only when the frame takes
 * the focus.
 */
function hearInput(page: Window, run: () => void): () => void {
  const undo = [hear(page, inputs, run)];
  const enter = (frame: Element) => {
    try {
      const inner = (frame as HTMLIFrameElement).contentWindow;
      if (inner?.document) undo.push(hearInput(inner, run));
    } catch {
      // of another origin
    }
  };
  const loaded = ({ target }: Event) => {
    if ((target as Element).tagName === "IFRAME") enter(target as Element);
  };
  page.document.addEventListener("load", loaded, true);
  undo.push(() => page.document.removeEventListener("load", loaded, true));
  for (const frame of page.document.querySelectorAll("iframe")) enter(frame);
  const left = () => {
    if (page.document.activeElement?.tagName === "IFRAME") run();
  };
  undo.push(hear(page, ["blur"], left));
  return () => {
    for (const one of undo) one();
  };
}

/** Idle Detection (W3C community group), where the browser has it and the page may use it. */
interface IdleDetector extends EventTarget {
  readonly screenState: "locked" | "unlocked" | null;
  start(options: { signal: AbortSignal }): Promise<void>;
}

function hearLock(run: () => void): () => void {
  const over = new AbortController();
  const Detector = (globalThis as { IdleDetector?: new () => IdleDetector }).IdleDetector;
  if (Detector) {
    const detector = new Detector();
    detector.addEventListener("change", () => detector.screenState === "locked" && run());
    detector.start({ signal: over.signal }).catch(() => {}); // it is not permitted
  }
  return () => over.abort();
}
