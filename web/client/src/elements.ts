import { type Link, unopened } from "./link";
import { askSentence, type Meeting } from "./meeting";
import type { Room } from "./replica";
import { typingSentence } from "./typing";
import type { Member, Problem, Status } from "./wire";

/**
 * The custom elements, which show rooms of a link and need no framework:
 *
 * - `<tovik-count room="…">`: "3 people";
 * - `<tovik-members room="…" most="8">`: who is there, with their status, and "+12" for those beyond `most`;
 * - `<tovik-typing room="…">`: "Ilse and Tobin are typing", without oneself;
 * - `<tovik-asks room="…">`: who asks to be let in, with buttons to admit and refuse them, for those who may; and for
 *   the one who asks, how it stands;
 * - `<tovik-invitations>`: the person's open invitations, with buttons to answer or withdraw them.
 *
 * What members are doing is shown if `tovik-members` says which field of the object has the text: `doing="page"`.
 *
 * For a room that is not delivered they show why. They are styled through the parts `count`, `list`, `member`, `picture`,
 * `name`, `status`, `doing`, `hint`, `more`, `typing`, `asks`, `ask`, `invitations`, `invitation`, `button` and `problem`, and the custom properties `--tovik-online`, `--tovik-away`, `--tovik-busy` and `--tovik-size`.
 */
export interface Elements {
  /** Stops the elements from following the link, and empties them. */
  close(): void;
}

const shown = new Set<RoomElement>();
let current: Link | undefined;

/** Defines the elements, and lets those of the page show the rooms of a link. */
export function elements(link: Link): Elements {
  for (const [name, element] of Object.entries(definitions())) {
    if (!customElements.get(name)) customElements.define(name, element);
  }
  const render = () => {
    for (const element of shown) element.render(link);
  };
  current = link;
  const stop = link.subscribe(render);
  render();
  return {
    close() {
      stop();
      if (current === link) current = undefined;
      for (const element of shown) element.render(undefined);
    },
  };
}

interface RoomElement {
  render(link: Link | undefined): void;
}

/** The classes are created when needed, because a server that renders pages has no HTMLElement. */
function definitions(): Record<string, CustomElementConstructor> {
  abstract class Shown extends HTMLElement implements RoomElement {
    static observedAttributes = ["room", "most", "doing"];
    readonly #root = withStyle(this.attachShadow({ mode: "open" }));
    #drawn = "";

    connectedCallback(): void {
      shown.add(this);
      this.render(current);
    }

    disconnectedCallback(): void {
      shown.delete(this);
    }

    attributeChangedCallback(): void {
      this.render(current);
    }

    render(link: Link | undefined): void {
      const room = link?.snapshot.rooms.get(this.getAttribute("room") ?? "");
      const { opened, meeting } = link?.snapshot ?? unopened;
      const html = room?.problem ? problem(room.problem) : this.draw(room, opened?.user, meeting);
      if (html === this.#drawn) return;
      this.#drawn = html;
      const focused = (this.#root.activeElement as HTMLElement | null)?.dataset.user;
      this.#root.innerHTML = html;
      if (focused) this.#root.querySelector<HTMLElement>(`[data-user="${CSS.escape(focused)}"]`)?.focus();
    }

    protected abstract draw(room: Room | undefined, self: string | undefined, meeting: Meeting): string;
  }

  /** An element with buttons that answer. */
  abstract class Answering extends Shown {
    constructor() {
      super();
      this.shadowRoot?.addEventListener("click", ({ target }) => {
        const { act, of = "" } = (target as HTMLElement).dataset;
        const link = current;
        if (!link || !act) return;
        const answers: Record<string, () => Promise<unknown>> = {
          admit: () => link.admit(of),
          "admit-all": () => link.admitAll(of),
          refuse: () => link.refuse(of),
          accept: () => link.accept(of),
          decline: () => link.decline(of),
          withdraw: () => link.withdraw(of),
        };
        answers[act]?.().catch((why: Error) => {
          this.dispatchEvent(
            new CustomEvent("tovik-refused", { detail: why, bubbles: true, composed: true }),
          );
        });
      });
    }
  }

  return {
    "tovik-count": class extends Shown {
      protected draw(room: Room | undefined): string {
        return room ? `<span part="count">${people(room.count.people)}</span>` : "";
      }
    },
    "tovik-members": class extends Shown {
      protected draw(room: Room | undefined): string {
        if (!room?.members) return "";
        const most = Number(this.getAttribute("most") ?? 12);
        const members = [...room.members.values()];
        const more = room.count.people - Math.min(most, members.length);
        const rest = more > 0 ? `<li part="more" title="${more} more">+${more}</li>` : "";
        const doing = this.getAttribute("doing");
        const list = members.slice(0, most).map((m) => member(m, doing));
        return `<ul part="list">${list.join("")}${rest}</ul>`;
      }
    },
    "tovik-typing": class extends Shown {
      protected draw(room: Room | undefined, self: string | undefined): string {
        return `<span part="typing" role="status">${text(typingSentence(room, self))}</span>`;
      }
    },
    "tovik-asks": class extends Answering {
      protected draw(_: Room | undefined, __: string | undefined, meeting: Meeting): string {
        const room = this.getAttribute("room") ?? "";
        const asks = meeting.asks.get(room) ?? [];
        const own = askSentence(meeting.asked.get(room));
        const all = asks.length > 1 ? button("admit-all", room, "Admit all") : "";
        const list = asks.map(
          (a) =>
            `<li part="ask"><span part="name">${text(a.name ?? a.user)}</span> asks to be let in ` +
            `${button("admit", a.ask, "Admit")}${button("refuse", a.ask, "Refuse")}</li>`,
        );
        return (
          (own ? `<span part="ask" role="status">${text(own)}</span>` : "") +
          (asks.length > 0 ? `<ul part="asks" role="log" aria-label="Asks">${list.join("")}</ul>${all}` : "")
        );
      }
    },
    "tovik-invitations": class extends Answering {
      protected draw(_: Room | undefined, __: string | undefined, { invitations }: Meeting): string {
        const received = invitations.received.map(
          (i) =>
            `<li part="invitation"><span part="name">${text(i.from.name ?? i.from.user)}</span> invites you to ${text(i.room)} ` +
            `${button("accept", i.invitation, "Accept")}${button("decline", i.invitation, "Decline")}</li>`,
        );
        const sent = invitations.sent.map(
          (i) =>
            `<li part="invitation">You invited <span part="name">${text(i.to.name ?? i.to.user)}</span> to ${text(i.room)} ` +
            `${button("withdraw", i.invitation, "Withdraw")}</li>`,
        );
        const all = [...received, ...sent];
        return all.length > 0
          ? `<ul part="invitations" role="log" aria-label="Invitations">${all.join("")}</ul>`
          : "";
      }
    },
  };
}

/** Why a room is not delivered. */
function problem({ code, detail }: Problem): string {
  return `<span part="problem" role="status" data-code="${text(code)}">${text(detail)}</span>`;
}

function people(n: number): string {
  return n === 1 ? "1 person" : `${n} people`;
}

function button(act: string, of: string, label: string): string {
  return `<button part="button" type="button" data-act="${act}" data-of="${text(of)}">${label}</button>`;
}

/** The text of what a member is doing, from a field of the object. */
function doingText(m: Member, field: string | null): string {
  const value = field ? m.doing?.[field] : undefined;
  return typeof value === "string" || typeof value === "number" ? String(value) : "";
}

function member(m: Member, doing: string | null): string {
  const name = m.name ?? m.user;
  const since = new Date(m.since).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });
  const note = m.note ? `${m.note}; ` : "";
  const picture = /^https?:/.test(m.picture ?? "")
    ? `<img part="picture" src="${text(m.picture ?? "")}" alt="">`
    : `<span part="picture" aria-hidden="true">${text(initials(name))}</span>`;
  return (
    `<li part="member" data-status="${m.status}" data-user="${text(m.user)}" tabindex="0">${picture}<span part="name">${text(name)}</span>${gauge(m.status)}` +
    `<span part="status">${text(m.label ?? (m.engaged ? "engaged" : m.status))}</span>` +
    `${doingText(m, doing) ? `<span part="doing">${text(doingText(m, doing))}</span>` : ""}<span part="hint">${text(note)}here since <time datetime="${text(m.since)}">${since}</time>` +
    `${m.sessions > 1 ? `, with ${m.sessions} sessions` : ""}</span></li>`
  );
}

function initials(name: string): string {
  const words = name.trim().split(/\s+/);
  return [words[0], words.length > 1 ? words.at(-1) : ""].map((word) => [...(word ?? "")][0] ?? "").join("");
}

/** A staff gauge: full for online, low for away, its upper half for busy. */
function gauge(status: Status): string {
  const [top, height] = status === "away" ? [7, 4] : [0, status === "busy" ? 5.5 : 11];
  return (
    '<svg viewBox="0 0 8 16" aria-hidden="true"><rect x=".75" y=".75" width="6.5" height="14.5" rx="2" fill="none" ' +
    `stroke="currentColor" stroke-width="1.5"/><rect x="2" y="${3 + top}" width="4" height="${height}" rx="1" fill="currentColor"/></svg>`
  );
}

/** The style is a constructed sheet, because a content security policy may forbid style elements. */
function withStyle(root: ShadowRoot): ShadowRoot {
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(style);
  root.adoptedStyleSheets = [sheet];
  return root;
}

/** Escapes text for HTML. */
function text(value: string): string {
  return value.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);
}

const style = `
:host { font: inherit }
[part=list] { display: flex; flex-wrap: wrap; gap: .5em; margin: .5em 0; padding: 0; list-style: none }
[part=member], [part=more] { display: inline-flex; align-items: center; gap: .4em; padding: .2em .7em .2em .2em;
  border: 1px solid color-mix(in srgb, currentColor 25%, transparent); border-radius: .6em }
[part=more] { padding-inline: .7em }
[part=member] { position: relative }
[part=hint] { position: absolute; inset: calc(100% + .3em) auto auto 0; z-index: 1; padding: .3em .6em; border-radius: .4em;
  background: CanvasText; color: Canvas; font-size: .8em; white-space: nowrap }
[part=member]:not(:hover, :focus-visible) [part=hint] { opacity: 0; pointer-events: none; clip-path: inset(50%) }
[part=picture] { display: inline-grid; place-items: center; width: var(--tovik-size, 1.8em); height: var(--tovik-size, 1.8em);
  border-radius: .45em; object-fit: cover; background: color-mix(in srgb, currentColor 12%, transparent); font-size: .8em }
svg { width: .5em; height: 1em }
[data-status=online] svg, [data-status=online] [part=status] { color: var(--tovik-online, light-dark(#1c7a4d, #7fd3a6)) }
[data-status=away] svg, [data-status=away] [part=status] { color: var(--tovik-away, light-dark(#8a5a00, #e8b75c)) }
[data-status=busy] svg, [data-status=busy] [part=status] { color: var(--tovik-busy, light-dark(#7a3f95, #cfa3ec)) }
[part=status], [part=doing] { font-size: .8em }
[part=asks], [part=invitations] { margin: .5em 0; padding: 0; list-style: none }
[part=button] { margin-inline-start: .4em; font: inherit; font-size: .9em }`;
