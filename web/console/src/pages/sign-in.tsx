import { type FormEvent, useState } from "react";
import { server } from "../live";
import { keepKey } from "../operator";
import { Frame, Sheet } from "../parts/frame";

/** Asks for the operator key, and tries it before it is kept. */
export function SignIn({ onSignIn }: { onSignIn: (key: string) => void }) {
  const [problem, setProblem] = useState<string>();
  const [trying, setTrying] = useState(false);

  async function signIn(event: FormEvent<HTMLFormElement>) {
    event.preventDefault();
    const key = String(new FormData(event.currentTarget).get("key")).trim();
    setTrying(true);
    const failed = await refusal(key);
    setTrying(false);
    setProblem(failed);
    if (!failed) {
      keepKey(key);
      onSignIn(key);
    }
  }

  return (
    <Frame>
      <div className="mx-auto max-w-md pt-10">
        <Sheet title="Sign in to the console">
          <form method="post" onSubmit={signIn} className="space-y-4 p-5">
            <label className="block space-y-1.5 text-sm">
              <span>Operator key</span>
              <input
                name="key"
                type="password"
                required
                autoComplete="off"
                className="w-full rounded-md border border-line bg-paper px-3 py-2 font-mono"
              />
            </label>
            {problem && (
              <p role="alert" className="text-flood text-sm">
                {problem}
              </p>
            )}
            <button
              type="submit"
              disabled={trying}
              className="rounded-md bg-water px-4 py-2 font-medium text-paper text-sm disabled:opacity-60"
            >
              {trying ? "Trying the key…" : "Sign in"}
            </button>
            <p className="text-muted text-xs">
              The service says at its start where the key is kept. This tab forgets it when it closes.
            </p>
          </form>
        </Sheet>
      </div>
    </Frame>
  );
}

/** Why a key does not do, or undefined. */
async function refusal(key: string): Promise<string | undefined> {
  try {
    const response = await fetch(`${server}/v1/rooms?limit=1`, {
      headers: { Authorization: `Bearer ${key}` },
    });
    if (response.ok) return undefined;
    if (response.status === 401) return "The service refused this key.";
    return `The service answered with status ${response.status}.`;
  } catch {
    return "The service cannot be reached.";
  }
}
