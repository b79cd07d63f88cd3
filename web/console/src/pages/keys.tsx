import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { ask, type Shape } from "../api";
import { server, useNow } from "../live";
import { Button, Choice, Confirm, Problem, TextField } from "../parts/controls";
import { Frame, Sheet } from "../parts/frame";
import { Table } from "../parts/table";
import { Time } from "../parts/time";
import { patterns } from "../rooms";
import { exact } from "../words";

type Key = Shape<"Key">;

type TokenKey = Shape<"TokenKey">;

/** Keys of back ends and operators, keys that verify tokens, and a token to try. */
export function KeysPage({ onSignOut }: { onSignOut: () => void }) {
  return (
    <Frame title="Keys" onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Keys</h1>
      <div className="space-y-5">
        <Trial />
        <Operators />
        <TokenKeys />
      </div>
    </Frame>
  );
}

/** How long a token to try is valid. */
const trialTime = 3_600_000;

interface Trial {
  readonly token: string;
  readonly user: string;
  readonly room: string;
  readonly until: number;
}

/**
 * Mints a token like a back end. The console has no secret of the service, so it makes one, and registers it for an
 * hour.
 */
async function mint(form: FormData): Promise<Trial> {
  if (!globalThis.crypto?.subtle)
    throw new Error(
      "This browser signs only on pages that come over HTTPS or from localhost; tovik token mints one in a terminal",
    );
  const { SignJWT } = await import("jose");
  const [user, room] = [String(form.get("user")), String(form.get("room"))];
  const until = Date.now() + trialTime;
  const secret = [...crypto.getRandomValues(new Uint8Array(32))]
    .map((byte) => byte.toString(16).padStart(2, "0"))
    .join("");
  const key = {
    id: `trial-${secret.slice(0, 6)}`,
    algorithm: "HS256",
    key: secret,
    expires: new Date(until).toISOString(),
  };
  const token = await new SignJWT({ name: String(form.get("name")) || undefined, tovik: { rooms: [room] } })
    .setProtectedHeader({ alg: "HS256", kid: key.id })
    .setSubject(user)
    .setIssuedAt()
    .setExpirationTime(Math.floor(until / 1000))
    .sign(new TextEncoder().encode(secret));
  await ask("/v1/token-keys", { method: "POST", body: JSON.stringify(key) });
  return { token, user, room, until };
}

function Trial() {
  const client = useQueryClient();
  const trial = useMutation({
    mutationFn: mint,
    onSuccess: () => client.invalidateQueries({ queryKey: ["token-keys"] }),
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    trial.mutate(new FormData(event.currentTarget));
  };
  const page = trial.data && pageCode(trial.data);
  return (
    <Sheet title="A token to try">
      <form onSubmit={submit} className="flex flex-wrap items-end gap-3 p-4 text-sm">
        <TextField label="Person (user id)" name="user" value="w-99" required />
        <TextField label="Name" name="name" value="Wren Alder" />
        <TextField label="Room or pattern" name="room" value="basin.upper-weir" required />
        <Button submit disabled={trial.isPending}>
          Mint it
        </Button>
      </form>
      <Problem of={trial.error} />
      {trial.data && page && (
        <div className="space-y-3 px-4 pb-4 text-sm" data-trial={trial.data.user}>
          <p>
            It is valid until {exact(trial.data.until)}, in {trial.data.room}. Your own back end mints tokens
            with a key that is listed below. Put this into any page, or{" "}
            <a
              className="text-water underline underline-offset-2"
              href={`/visit#room=${trial.data.room}&token=${trial.data.token}`}
              target="_blank"
              rel="noreferrer"
            >
              take part with it now
            </a>
            :
          </p>
          <pre className="overflow-x-auto whitespace-pre-wrap break-all rounded bg-wash p-3 text-xs">
            {page}
          </pre>
          <Button onClick={() => void navigator.clipboard?.writeText(page)}>Copy the lines</Button>
        </div>
      )}
    </Sheet>
  );
}

/** The ten lines of page for a token. */
function pageCode({ token, room }: Trial): string {
  return `<tovik-count room="${room}"></tovik-count>
<tovik-members room="${room}"></tovik-members>
<textarea></textarea> <tovik-typing room="${room}"></tovik-typing>
<script type="module">
  import { composeIn, elements, openTab } from "${server}/client/tovik.js";
  const token = "${token}"; // or a function that fetches a fresh one from your back end
  const { link } = openTab({ server: "${server}", token, rooms: ["${room}"] });
  elements(link);
  composeIn(link, "${room}", document.querySelector("textarea"));
</script>`;
}

function Operators() {
  const now = useNow(10_000);
  const client = useQueryClient();
  const keys = useQuery({
    queryKey: ["keys"],
    queryFn: () => ask<{ keys: readonly Key[] }>("/v1/keys"),
  });
  const act = useMutation({
    mutationFn: ([method, path, body]: readonly [string, string, object?]) =>
      ask<Key | undefined>(path, { method, ...(body && { body: JSON.stringify(body) }) }),
    onSettled: () => client.invalidateQueries({ queryKey: ["keys"] }),
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const days = Number(form.get("days"));
    act.mutate([
      "POST",
      "/v1/keys",
      {
        name: form.get("name") || undefined,
        role: form.get("role"),
        rooms: patterns(form.get("rooms")),
        expires: days > 0 ? new Date(Date.now() + days * 86_400_000).toISOString() : undefined,
      },
    ]);
  };
  return (
    <Sheet title="Keys of back ends and operators">
      <Problem of={keys.error} />
      {keys.data?.keys.length === 0 && (
        <p className="p-4 text-muted text-sm">
          There are none besides the key that the service was started with, which is not listed.
        </p>
      )}
      {keys.data && keys.data.keys.length > 0 && (
        <Table heads={["Key", "May", "Rooms", "Made", "Last used", "Until", ""]} marker="keys">
          {keys.data.keys.map((key) => (
            <tr key={key.id} data-key={key.id}>
              <td>
                {key.name ?? ""} <span className="font-mono text-muted text-xs">{key.id}</span>
              </td>
              <td>{key.role}</td>
              <td>{key.rooms?.join(", ") ?? "all"}</td>
              <td>
                <Time at={key.created} now={now} />
              </td>
              <td>{key.last_used ? <Time at={key.last_used} now={now} /> : "never"}</td>
              <td>{key.revoked ? "revoked" : key.expires ? exact(key.expires) : "no end"}</td>
              <td className="text-right">
                {!key.revoked && (
                  <Confirm
                    small
                    label="Revoke"
                    name={`Revoke ${key.name ?? key.id}`}
                    title={`Revoke ${key.name ?? key.id}?`}
                    text="It is refused from now on, and links that were opened with it are closed."
                    onConfirm={() => act.mutate(["DELETE", `/v1/keys/${key.id}`])}
                  />
                )}
              </td>
            </tr>
          ))}
        </Table>
      )}
      <form onSubmit={submit} className="flex flex-wrap items-end gap-3 border-line border-t p-4 text-sm">
        <TextField label="Name" name="name" hint="wall display" />
        <Choice label="May" name="role" of={["read", "write", "operate"]} />
        <TextField label="Rooms (patterns; empty: all)" name="rooms" hint="basin.*" />
        <TextField label="Days (empty: until revoked)" name="days" type="number" />
        <Button submit disabled={act.isPending}>
          Make a key
        </Button>
      </form>
      {act.data?.key && (
        <p role="status" data-made className="border-line border-t bg-wash px-4 py-2.5 text-sm">
          The key, shown this once: <code className="break-all">{act.data.key}</code>
        </p>
      )}
      <Problem of={act.error} />
    </Sheet>
  );
}

function TokenKeys() {
  const now = useNow(10_000);
  const client = useQueryClient();
  const keys = useQuery({
    queryKey: ["token-keys"],
    queryFn: () => ask<{ keys: readonly TokenKey[] }>("/v1/token-keys"),
  });
  const act = useMutation({
    mutationFn: ([method, path, body]: readonly [string, string, object?]) =>
      ask(path, { method, ...(body && { body: JSON.stringify(body) }) }),
    onSettled: () => client.invalidateQueries({ queryKey: ["token-keys"] }),
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    act.mutate([
      "POST",
      "/v1/token-keys",
      { id: form.get("id"), algorithm: form.get("algorithm"), key: form.get("key") },
    ]);
  };
  return (
    <Sheet title="Keys that verify people's tokens">
      <Problem of={keys.error} />
      {keys.data && keys.data.keys.length > 0 && (
        <Table heads={["Key (kid)", "Algorithm", "Made", "Until", ""]} marker="token-keys">
          {keys.data.keys.map((key) => (
            <tr key={key.id}>
              <td className="font-mono text-xs">{key.id}</td>
              <td>{key.algorithm}</td>
              <td>{key.created ? <Time at={key.created} now={now} /> : "in tovik.toml"}</td>
              <td>{key.revoked ? "revoked" : key.expires ? exact(key.expires) : "no end"}</td>
              <td className="text-right">
                {!key.revoked && !key.configured && (
                  <Confirm
                    small
                    label="Revoke"
                    name={`Revoke ${key.id}`}
                    title={`Revoke ${key.id}?`}
                    text="Tokens that it signed are refused from now on, and links that were opened with them are closed."
                    onConfirm={() => act.mutate(["DELETE", `/v1/token-keys/${key.id}`])}
                  />
                )}
              </td>
            </tr>
          ))}
        </Table>
      )}
      <form onSubmit={submit} className="space-y-3 border-line border-t p-4 text-sm">
        <div className="flex flex-wrap items-end gap-3">
          <TextField label="Key id (kid)" name="id" hint="app-2" required />
          <Choice label="Algorithm" name="algorithm" of={["EdDSA", "ES256", "RS256", "HS256"]} />
        </div>
        <label className="grid gap-1">
          <span className="text-muted text-xs">Public key (PEM), or the secret of HS256</span>
          <textarea
            name="key"
            required
            rows={3}
            className="rounded-md border border-line bg-sheet px-2 py-1.5 font-mono text-xs"
          />
        </label>
        <Button submit disabled={act.isPending}>
          Take tokens of this key
        </Button>
      </form>
      <Problem of={act.error} />
    </Sheet>
  );
}
