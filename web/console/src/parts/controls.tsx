import { type ReactNode, useId, useRef } from "react";

const plain = "rounded-md border border-line px-3 py-1.5 hover:bg-wash disabled:opacity-50";

/** A button. */
export function Button(props: {
  onClick?: () => void;
  submit?: boolean;
  disabled?: boolean;
  children: ReactNode;
}) {
  return (
    <button
      type={props.submit ? "submit" : "button"}
      onClick={props.onClick}
      disabled={props.disabled}
      className={plain}
    >
      {props.children}
    </button>
  );
}

/**
 * A button that asks for confirmation, for what cannot be undone. It uses the browser's own dialog, because Radix's
 * dialog adds style elements, which the console's content security policy forbids.
 */
export function Confirm(props: {
  label: string;
  /** The accessible name, where several buttons have the same label. */
  name?: string;
  title: string;
  text: string;
  small?: boolean;
  onConfirm: () => void;
}) {
  const dialog = useRef<HTMLDialogElement>(null);
  const title = useId();
  return (
    <>
      <button
        type="button"
        aria-label={props.name}
        onClick={() => dialog.current?.showModal()}
        className={
          props.small
            ? "rounded px-1.5 py-0.5 text-muted text-xs underline decoration-dotted underline-offset-2 hover:bg-wash hover:text-flood"
            : "rounded-md border border-line px-3 py-1.5 text-flood hover:bg-wash"
        }
      >
        {props.label}
      </button>
      <dialog
        ref={dialog}
        aria-labelledby={title}
        className="m-auto w-[min(28rem,92vw)] space-y-4 rounded-xl border border-line bg-sheet p-5 text-ink backdrop:bg-ink/40"
      >
        <h2 id={title} className="font-semibold">
          {props.title}
        </h2>
        <p className="text-sm">{props.text}</p>
        <form method="dialog" className="flex justify-end gap-2 text-sm">
          <button type="submit" className={plain}>
            Cancel
          </button>
          <button
            type="submit"
            onClick={props.onConfirm}
            className="rounded-md bg-flood px-3 py-1.5 text-sheet"
          >
            {props.label}
          </button>
        </form>
      </dialog>
    </>
  );
}

/** A labelled field of a form. */
export function TextField(props: {
  label: string;
  name: string;
  hint?: string;
  value?: string;
  type?: string;
  required?: boolean;
  wide?: boolean;
}) {
  return (
    <label className={`grid gap-1 ${props.wide ? "grow" : ""}`}>
      <span className="text-muted text-xs">{props.label}</span>
      <input
        name={props.name}
        type={props.type ?? "text"}
        defaultValue={props.value}
        placeholder={props.hint}
        required={props.required}
        className="min-w-0 rounded-md border border-line bg-sheet px-2 py-1.5 placeholder:text-muted/80"
      />
    </label>
  );
}

/** A labelled select of a form. */
export function Choice(props: { label: string; name: string; of: readonly string[]; value?: string }) {
  return (
    <label className="grid gap-1">
      <span className="text-muted text-xs">{props.label}</span>
      <select
        name={props.name}
        defaultValue={props.value}
        className="rounded-md border border-line bg-sheet px-2 py-1.5"
      >
        {props.of.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </label>
  );
}

/** An error message, if there is an error. */
export function Problem({ of }: { of: Error | null }) {
  if (!of) return null;
  return (
    <p role="alert" className="px-4 py-2 text-flood text-sm">
      {of.message}
    </p>
  );
}
