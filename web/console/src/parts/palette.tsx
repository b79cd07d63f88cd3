import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useEffect, useRef, useState } from "react";
import { useLocation } from "wouter";
import { ask, type People, query } from "../api";
import { matches } from "../rooms";
import { places } from "./places";

const item =
  "flex cursor-pointer items-baseline gap-3 rounded-md px-3 py-1.5 aria-selected:bg-wash aria-selected:outline aria-selected:outline-water";

/** Opens any page by a few letters. Ctrl-K or Cmd-K opens the palette. */
export function Palette() {
  const dialog = useRef<HTMLDialogElement>(null);
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [, go] = useLocation();
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== "k" || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      setOpen(true);
    };
    document.addEventListener("keydown", onKey);
    return () => document.removeEventListener("keydown", onKey);
  }, []);
  useEffect(() => {
    if (!open) {
      dialog.current?.close();
      return;
    }
    dialog.current?.showModal();
    dialog.current?.querySelector("input")?.focus();
  }, [open]);
  const rooms = useQuery({
    queryKey: ["room-names"],
    queryFn: () => ask<{ rooms: readonly { room: string }[] }>("/v1/rooms?limit=1000"),
    enabled: open,
  });
  const known = useQuery({
    queryKey: ["palette", text],
    queryFn: () => ask<People>(`/v1/people${query({ text, limit: 8 })}`),
    enabled: open && text !== "",
    placeholderData: (before) => before,
  });
  const to = (place: string) => {
    setOpen(false);
    setText("");
    go(place);
  };
  const found = (name: string) => matches(text, name.toLowerCase());
  return (
    <>
      <button
        type="button"
        onClick={() => setOpen(true)}
        aria-keyshortcuts="Control+K"
        className="rounded border border-line px-2 py-1 text-muted text-xs hover:text-ink"
      >
        Go to… <kbd className="hidden font-mono sm:inline">Ctrl K</kbd>
      </button>
      <dialog
        ref={dialog}
        aria-label="Go to"
        onClose={() => setOpen(false)}
        className="mx-auto mt-[12vh] w-[min(34rem,92vw)] rounded-xl border border-line bg-sheet p-0 text-ink backdrop:bg-ink/40"
      >
        {open && (
          <Command shouldFilter={false} label="Go to" className="text-sm">
            <Command.Input
              value={text}
              onValueChange={setText}
              placeholder="A page, a room, a person"
              className="w-full border-line border-b bg-sheet px-4 py-3 outline-offset-[-2px] placeholder:text-muted/80"
            />
            <Command.List label="What is found" className="max-h-80 overflow-y-auto p-2">
              <Command.Empty className="px-3 py-2 text-muted">Nothing is called this.</Command.Empty>
              {places
                .filter(([, name]) => found(name.toLowerCase()))
                .map(([place, name]) => (
                  <Command.Item key={place} value={place} onSelect={() => to(place)} className={item}>
                    {name} <span className="text-muted text-xs">page</span>
                  </Command.Item>
                ))}
              {(rooms.data?.rooms ?? [])
                .filter(({ room }) => text !== "" && found(room))
                .slice(0, 8)
                .map(({ room }) => (
                  <Command.Item
                    key={room}
                    value={`room ${room}`}
                    onSelect={() => to(`/rooms/${room}`)}
                    className={item}
                  >
                    <span className="font-mono">{room}</span> <span className="text-muted text-xs">room</span>
                  </Command.Item>
                ))}
              {text !== "" &&
                (known.data?.people ?? []).map(({ user, name }) => (
                  <Command.Item
                    key={user}
                    value={`person ${user}`}
                    onSelect={() => to(`/people/${encodeURIComponent(user)}`)}
                    className={item}
                  >
                    {name ?? user} <span className="font-mono text-muted text-xs">{user}</span>
                  </Command.Item>
                ))}
            </Command.List>
          </Command>
        )}
      </dialog>
    </>
  );
}
