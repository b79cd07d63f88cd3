import { Beats, type Events, type Over, type Socket, Stream } from "./transports";

/** What a link needs from its environment. A page has it, and so has Node; a test passes its own. */
export interface Surroundings {
  /** There are WebSockets only: no other kind of link is tried. */
  readonly webSocketOnly?: true;
  connect(url: string, over: Over): Socket;
  after(ms: number, run: () => void): () => void;
  /** A random number from 0 to below 1. */
  random(): number;
}

/** Runs something after some milliseconds. The function that it returns cancels that. */
export const after = (ms: number, run: () => void) => {
  const timer = setTimeout(run, ms);
  return () => clearTimeout(timer);
};

const network = {
  fetch: (url: string, init: RequestInit) => fetch(url, init),
  events: (url: string) => new EventSource(url) as Events,
  after,
};

/** The environment of a page. */
export const page: Surroundings = {
  connect: (url, over) => {
    if (over === "websocket") return new WebSocket(url) as Socket;
    return over === "stream" ? new Stream(url, network) : new Beats(url, network);
  },
  after,
  random: Math.random,
};
