import type { Shape } from "./api";
import { server } from "./live";

/** Removes parameters from the fragment of the address, so that no secret stays in the address bar. */
export function takeFragment(): URLSearchParams {
  const params = new URLSearchParams(location.hash.slice(1));
  if (location.hash) history.replaceState(null, "", location.pathname + location.search);
  return params;
}

/** The key with which this browser is signed in. */
export type SignedIn = Shape<"SignIn">;

/**
 * Signs in with a key. The service stores the sign-in in a cookie that scripts cannot read. Throws the reason if it
 * is refused.
 */
export async function signIn(key: string): Promise<SignedIn> {
  const response = await fetch(`${server}/v1/sign-in`, { method: "POST", body: JSON.stringify({ key }) });
  const answer = await response.json();
  if (!response.ok) throw new Error(answer.detail);
  return answer;
}

/** The current sign-in; undefined if there is none. */
export async function signedIn(): Promise<SignedIn | undefined> {
  const answer: SignedIn = await (await fetch(`${server}/v1/sign-in`)).json();
  return answer.role ? answer : undefined;
}

/** Whether the service offers practice rooms. */
export async function offersPractice(): Promise<boolean> {
  const answer: SignedIn = await (await fetch(`${server}/v1/sign-in`)).json();
  return answer.practice ?? false;
}

export async function signOut(): Promise<void> {
  await fetch(`${server}/v1/sign-in`, { method: "DELETE" });
}
