import { type PointerEvent, useEffect, useRef, useState } from "react";
import type { WindowControls } from "./window";

/**
 * Dragging moves the window in time, and so does the wheel with shift or sideways. With ctrl, or a pinch, it zooms.
 */
export function usePan(controls: WindowControls, width: number) {
  const from = useRef<number>(undefined);
  const latest = useRef(controls);
  latest.current = controls;
  const [element, setElement] = useState<HTMLElement | null>(null);
  useEffect(() => {
    if (!element) return;
    const onWheel = (event: WheelEvent) => {
      const { window, zoom, pan } = latest.current;
      const sideways = event.shiftKey ? event.deltaY || event.deltaX : event.deltaX;
      if (event.ctrlKey) {
        const box = element.getBoundingClientRect();
        const part = (event.clientX - (box.right - width)) / width;
        zoom(2 ** (event.deltaY / 300), window.from + part * (window.to - window.from));
      } else if (Math.abs(sideways) > Math.abs(event.shiftKey ? 0 : event.deltaY)) pan(sideways / width);
      else return;
      event.preventDefault();
    };
    // React's listener is passive, and could not prevent the page from zooming.
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => element.removeEventListener("wheel", onWheel);
  }, [element, width]);
  return {
    ref: setElement,
    onPointerDown(event: PointerEvent) {
      if (event.button === 0 && !(event.target as Element).closest("a")) from.current = event.clientX;
    },
    onPointerMove(event: PointerEvent) {
      if (from.current === undefined || event.buttons === 0) return;
      const moved = event.clientX - from.current;
      if (Math.abs(moved) < 4) return;
      from.current = event.clientX;
      controls.pan(-moved / width);
    },
    onPointerUp() {
      from.current = undefined;
    },
  };
}
