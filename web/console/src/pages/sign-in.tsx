import { type FormEvent, useState } from "react";
import { type SignedIn, signIn } from "../operator";
import { Frame, Sheet } from "../parts/frame";

/** Asks for an operator's key. */
export function SignIn(props: { problem?: string | undefined; onSignIn: (who: SignedIn) => void }) {
  const [problem, setProblem] = useState(props.problem);
  const [trying, setTrying] = useState(false);

  function submit(event: FormEvent<HTMLFormElement>) {
    event.preventDefault();
    setTrying(true);
    signIn(String(new FormData(event.currentTarget).get("key")).trim())
      .then(props.onSignIn, (error: Error) => setProblem(error.message))
      .finally(() => setTrying(false));
  }

  return (
    <Frame title="Sign in">
      <div className="mx-auto max-w-md pt-10">
        <Sheet title="Sign in to the console">
          <form method="post" onSubmit={submit} className="space-y-4 p-5">
            <label className="block space-y-1.5 text-sm">
              <span className="block">Operator key</span>
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
              The service says at its start where its key is kept; more are made with tovik key create. You
              are signed in for 12 hours, in this browser.
            </p>
          </form>
        </Sheet>
      </div>
    </Frame>
  );
}
