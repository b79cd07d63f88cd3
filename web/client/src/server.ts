/**
 * The entry for back ends in Node 20 or later: the HTTP API, following rooms over a WebSocket, tokens for people, and
 * the events of hooks.
 */

import { importPKCS8, SignJWT } from "jose";
import createClient, { type Client } from "openapi-fetch";
import { Webhook } from "standardwebhooks";
import WebSocket from "ws";
import type { components, paths } from "./api-types";
import { type Kept, Link, type LinkOptions } from "./link";
import { after } from "./surroundings";
import type { Socket } from "./transports";

export type { components, operations, paths } from "./api-types";
export { Link, type Snapshot, type State, type TokenSource } from "./link";
export { type Change, membersOf, type Room } from "./replica";
export { Refused } from "./requests";

/** A shape of the HTTP API, as in `Shape<"Members">`. */
export type Shape<Name extends keyof components["schemas"]> = components["schemas"][Name];

/** The HTTP API: `GET`, `PUT`, `POST` and `DELETE` take a path of the OpenAPI document and its parameters. */
export type API = Client<paths>;

export interface APIOptions {
  /** The URL of the service, as in https://presence.example. */
  readonly server: string;
  /** A key of the back end. */
  readonly key: string;
  /** Used in the place of the global `fetch`. */
  readonly fetch?: typeof fetch;
}

/**
 * Returns a client of the HTTP API. Each call resolves to `{ data, error, response }`: `error` is the problem document
 * (RFC 9457) of a refusal. It rejects if the service cannot be reached.
 */
export function api({ server, key, fetch }: APIOptions): API {
  return createClient<paths>({
    baseUrl: server,
    headers: { Authorization: `Bearer ${key}` },
    ...(fetch && { fetch: (request: Request) => fetch(request) }),
  });
}

/** Who follows, and what: with a `key` rooms and people only; with a `token` also as a member of `rooms`. */
export type FollowOptions = Omit<LinkOptions, "page" | "memory" | "nonce" | "surroundings">;

/**
 * Opens a link that reconnects whenever it is lost, until `close()`. `onChange` calls back with who joined, changed and
 * left; `snapshot` has everything known. A wrong key or token ends it: `snapshot.state` is `refused`, with the reason.
 */
export function follow(options: FollowOptions): Link {
  let kept: Kept | undefined;
  const memory = {
    load: () => kept,
    save(session: Kept | undefined) {
      kept = session;
    },
  };
  return new Link({ ...options, memory, nonce: crypto.randomUUID(), surroundings: node });
}

const node = {
  webSocketOnly: true,
  connect(url: string): Socket {
    const socket = new WebSocket(url);
    socket.on("error", () => {}); // the close that follows says it
    return socket as Socket;
  },
  after,
  random: Math.random,
} as const;

/** A person, and what they may do. Rooms are named by patterns, as in `basin.*`. */
export interface Bearer {
  /** The person's stable id. */
  readonly user: string;
  readonly name?: string;
  /** An address. */
  readonly picture?: string;
  readonly grants: Shape<"Grants">;
  /** How long the token is valid, in seconds; default 3600. */
  readonly seconds?: number;
}

/** What signs a token: the service's token secret, or a private key in PEM (PKCS #8) whose public half it knows. */
export type Signer =
  | { readonly secret: string }
  | { readonly key: string; readonly kid: string; readonly algorithm?: "EdDSA" | "ES256" | "RS256" };

/** The shortest secret in bytes: HS256 wants one as long as its hash (RFC 7518 §3.2). */
const shortest = 32;

/**
 * Returns a token for a person: a JWT (RFC 7519). The algorithm is EdDSA if the signer does not say another one; HS256
 * for a secret. It rejects with a `TypeError` that names what is wrong.
 */
export async function mintToken(bearer: Bearer, signer: Signer): Promise<string> {
  const { user, name, picture, grants, seconds = 3600 } = bearer;
  if (!user) throw new TypeError(`user is ${JSON.stringify(user)}, and must be the person's id`);
  if (!Array.isArray(grants?.rooms))
    throw new TypeError(`grants.rooms is ${JSON.stringify(grants?.rooms)}, and must be a list of patterns`);
  if (!(seconds > 0)) throw new TypeError(`seconds is ${seconds}, and must be more than 0`);
  const now = Math.floor(Date.now() / 1000);
  const token = new SignJWT({ name, picture, tovik: grants })
    .setSubject(user)
    .setIssuedAt(now)
    .setExpirationTime(now + seconds);
  if ("secret" in signer) {
    const secret = new TextEncoder().encode(signer.secret);
    if (secret.length < shortest)
      throw new TypeError(`secret has ${secret.length} bytes, and must have at least ${shortest}`);
    return token.setProtectedHeader({ alg: "HS256" }).sign(secret);
  }
  const { kid, algorithm: alg = "EdDSA" } = signer;
  if (!kid) throw new TypeError("kid is missing: the name under which the service knows the public key");
  const key = await importPKCS8(signer.key, alg).catch((error) => {
    throw new TypeError(`key cannot be used with ${alg}: ${error.message}`);
  });
  return token.setProtectedHeader({ alg, kid }).sign(key);
}

/** An event of a hook: a CloudEvent 1.0. */
export type HookEvent = Shape<"Event">;

/** Headers as Node or `fetch` have them. */
export type HeadersLike = Headers | Readonly<Record<string, string | readonly string[] | undefined>>;

/**
 * Verifies a request of a hook (Standard Webhooks), and returns its event. `body` is the text as it came, before any
 * parser. It throws if the signature is wrong, or older than five minutes.
 */
export function readEvent(headers: HeadersLike, body: string, secret: string): HookEvent {
  const get = (name: string) =>
    headers instanceof Headers ? (headers.get(name) ?? "") : String(headers[name] ?? "");
  const signed = ["webhook-id", "webhook-timestamp", "webhook-signature"].map((name) => [name, get(name)]);
  return new Webhook(secret).verify(body, Object.fromEntries(signed)) as HookEvent;
}
