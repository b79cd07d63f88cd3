import type { Status } from "@client/wire";
import { useEffect, useRef, useState } from "react";
import { server } from "./live";

/** Asks the service. Throws what is wrong in the words of its problem document. */
export async function ask<T>(path: string, init?: RequestInit): Promise<T> {
  const response = await fetch(server + path, init);
  if (response.status === 204) return undefined as T;
  const answer = await response.json();
  if (!response.ok) {
    const { detail, field, value, allowed } = answer;
    throw new Error(
      [detail, field && value && `${field} is “${value}”`, allowed && `allowed: ${allowed}`]
        .filter(Boolean)
        .join("; "),
    );
  }
  return answer;
}

/** A query of an address, without what is empty. */
export function query(parts: Record<string, string | number | undefined>): string {
  const given = Object.entries(parts).filter(([, value]) => value !== undefined && value !== "");
  return given.length > 0
    ? `?${new URLSearchParams(given.map(([name, value]) => [name, String(value)]))}`
    : "";
}

/** An entry of the journal. */
export interface Entry {
  readonly id: number;
  readonly at: string;
  readonly kind: string;
  readonly room?: string;
  readonly user?: string;
  readonly over?: string;
  readonly status?: string;
  readonly was?: string;
  readonly note?: string;
  readonly reason?: string;
  /** Milliseconds: of a session, a stay, a time without a link. */
  readonly length?: number;
  readonly lost?: number;
  readonly hidden?: boolean;
}

export interface Journal {
  readonly entries: readonly Entry[];
  readonly older?: number;
}

/** Somebody of the directory, with how they are now. */
export interface Person {
  readonly user: string;
  readonly name?: string;
  readonly status: Status;
  readonly note?: string;
  readonly hidden?: boolean;
  readonly rooms?: readonly string[];
  readonly last_seen?: string;
}

export interface People {
  readonly people: readonly Person[];
  readonly next?: string;
}

/** What will become of a session. */
export interface Upcoming {
  readonly at: string;
  readonly act: string;
  readonly room?: string;
}

export interface Session {
  readonly session: string;
  readonly state: "live" | "grace";
  readonly over: "websocket" | "stream" | "beats";
  readonly opened: string;
  readonly reason?: string;
  readonly last_heard: string;
  readonly last_activity: string;
  readonly idle: boolean;
  readonly no_input?: boolean;
  readonly page_hidden: boolean;
  readonly rooms: readonly string[];
  readonly next: readonly Upcoming[];
}

/** Why somebody is shown as they are. */
export interface Why {
  readonly user: string;
  readonly name?: string;
  readonly status: Status;
  readonly note?: string;
  readonly until?: string;
  /** What others see who do not see who hides, where that differs. */
  readonly open?: Status;
  readonly words: readonly string[];
  readonly rules: readonly { rule: string; status: string; holds: boolean; decides: boolean }[];
  readonly sessions: readonly Session[];
}

/** Follows the journal from now on, and says whether it is heard. A stream that breaks is made again by the browser. */
export function useJournalStream(filter: string, onEntry: (entry: Entry) => void): boolean {
  const [open, setOpen] = useState(false);
  const newest = useRef(onEntry);
  newest.current = onEntry;
  useEffect(() => {
    const source = new EventSource(`${server}/v1/journal${filter}`);
    source.onopen = () => setOpen(true);
    source.onerror = () => setOpen(false);
    source.addEventListener("entry", (event) => newest.current(JSON.parse(event.data)));
    return () => source.close();
  }, [filter]);
  return open;
}
