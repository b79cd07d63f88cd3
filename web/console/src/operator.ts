const name = "tovik.operator-key";

/** Takes parameters out of the address's fragment, so that no secret stays in the address bar. */
export function takeFragment(): URLSearchParams {
  const params = new URLSearchParams(location.hash.slice(1));
  if (location.hash) history.replaceState(null, "", location.pathname + location.search);
  return params;
}

/** The operator key of this tab: from a sign-in link (/#key=…) or from before. */
export function signInKey(): string | undefined {
  const key = location.pathname === "/visit" ? null : takeFragment().get("key");
  if (key) keepKey(key);
  return sessionStorage.getItem(name) ?? undefined;
}

/** Keeps the key for as long as the tab is open. */
export function keepKey(key: string): void {
  sessionStorage.setItem(name, key);
}

export function signOut(): void {
  sessionStorage.removeItem(name);
}
