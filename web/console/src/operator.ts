import { server } from "./live";

/** Takes parameters out of the address's fragment, so that no secret stays in the address bar. */
export function takeFragment(): URLSearchParams {
  const params = new URLSearchParams(location.hash.slice(1));
  if (location.hash) history.replaceState(null, "", location.pathname + location.search);
  return params;
}

/** Who this browser is signed in as. */
export interface SignedIn {
  readonly realm: string;
  readonly key: string;
  readonly role: string;
  /** What the key is about; everything when absent. */
  readonly rooms?: readonly string[];
  /** The service offers rooms to practise in, to anybody. */
  readonly practice?: boolean;
}

/** Signs in with a key; the service keeps the sign-in in a cookie that no script can read. Throws why not. */
export async function signIn(key: string): Promise<SignedIn> {
  const response = await fetch(`${server}/v1/sign-in`, { method: "POST", body: JSON.stringify({ key }) });
  const answer = await response.json();
  if (!response.ok) throw new Error(answer.detail);
  return answer;
}

/** Who is signed in already; undefined when nobody is. */
export async function signedIn(): Promise<SignedIn | undefined> {
  const answer: SignedIn = await (await fetch(`${server}/v1/sign-in`)).json();
  return answer.role ? answer : undefined;
}

/** Whether the service offers rooms to practise in. */
export async function offersPractice(): Promise<boolean> {
  const answer: SignedIn = await (await fetch(`${server}/v1/sign-in`)).json();
  return answer.practice ?? false;
}

export async function signOut(): Promise<void> {
  await fetch(`${server}/v1/sign-in`, { method: "DELETE" });
}
