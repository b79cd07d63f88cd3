import type { Socket } from "./transports";
import type { Answer, Problem } from "./wire";

/** The detail, the field with its value, and what is allowed, in one line. */
function told({ detail, field, value, allowed }: Problem): string {
  const is = value?.startsWith('"') ? value : JSON.stringify(value);
  return `${detail}${field && value ? `: ${field} is ${is}` : ""}${allowed ? `; allowed: ${allowed}` : ""}`;
}

/** The rejection of a request: the service's problem, or the loss of the link before the answer. */
export class Refused extends Error {
  readonly code: string;
  constructor(readonly problem: Problem) {
    super(told(problem));
    this.code = problem.code;
  }
}

/** Time limit for the answer to a request. */
const requestWait = 15_000;

const noLink: Problem = {
  code: "no-link",
  detail: "there is no link to the service now",
  allowed: "requests while the state is open",
};

const noAnswer: Problem = {
  code: "no-answer",
  detail: "the service did not answer in time; whether it has carried the request out is not known",
  allowed: "asking once more",
};

/** Problems of the link itself, not of one request. */
export const local = new Set([noLink.code, noAnswer.code]);

interface Waiting {
  resolve(answer: Answer): void;
  reject(why: Refused): void;
}

/** The requests of a link that wait for their answers. */
export class Requests {
  readonly #after: (ms: number, run: () => void) => () => void;
  readonly #waiting = new Map<number, Waiting>();
  #lastID = 0;

  constructor(after: (ms: number, run: () => void) => () => void) {
    this.#after = after;
  }

  /** Returns the id of a new request, or of a hello, whose answer the link takes itself. */
  newID(): number {
    return ++this.#lastID;
  }

  /** Sends a request. Without a socket nothing is sent, and the request fails. Callers may ignore the promise. */
  send(frame: object, socket: Socket | undefined): Promise<Answer> {
    const answer = new Promise<Answer>((resolve, reject) => {
      if (!socket) {
        reject(new Refused(noLink));
        return;
      }
      const id = this.newID();
      const stop = this.#after(requestWait, () => {
        this.#waiting.delete(id);
        reject(new Refused(noAnswer));
      });
      const settled =
        <T>(act: (value: T) => void) =>
        (value: T) => {
          stop();
          act(value);
        };
      this.#waiting.set(id, { resolve: settled(resolve), reject: settled(reject) });
      socket.send(JSON.stringify({ ...frame, id }));
    });
    answer.catch(() => {});
    return answer;
  }

  answered(frame: Answer): void {
    this.#take(frame.re)?.resolve(frame);
  }

  refused(frame: Problem & { readonly re?: number }): void {
    this.#take(frame.re)?.reject(new Refused(frame));
  }

  /** Fails all requests, because the link is lost. */
  fail(): void {
    for (const waiting of this.#waiting.values()) waiting.reject(new Refused(noLink));
    this.#waiting.clear();
  }

  #take(re: number | undefined): Waiting | undefined {
    const waiting = re === undefined ? undefined : this.#waiting.get(re);
    if (waiting) this.#waiting.delete(re as number);
    return waiting;
  }
}
