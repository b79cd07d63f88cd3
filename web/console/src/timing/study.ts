import { useEffect, useState } from "react";
import type { Shape } from "../api";
import { server } from "../live";

interface Study {
  /** The last report; it stays until the next one. */
  readonly report?: Shape<"Timing">;
  /** How much is done, from 0 to 1, while a study runs. */
  readonly done?: number | undefined;
  readonly problem?: string;
}

/** Runs a study of the timings, and again for each other address. */
export function useStudy(path: string): Study {
  const [study, setStudy] = useState<Study>({ done: 0 });
  useEffect(() => {
    const source = new EventSource(server + path);
    setStudy(({ report }) => ({ ...(report && { report }), done: 0 }));
    const end = (next: Partial<Study>) => {
      source.close(); // a browser would begin it again
      setStudy(({ report }) => ({ ...(report && { report }), ...next }));
    };
    source.addEventListener("progress", (event) => {
      const { done } = JSON.parse(event.data);
      setStudy((now) => ({ ...now, done }));
    });
    source.addEventListener("report", (event) => end({ report: JSON.parse(event.data) }));
    source.addEventListener("problem", (event) => end({ problem: JSON.parse(event.data).detail }));
    source.onerror = () => {
      // The reason is in the answer, which only a request can read.
      if (source.readyState === EventSource.CLOSED)
        void fetch(server + path).then(
          async (answer) => {
            const told = await answer.json();
            end(
              answer.ok
                ? { report: told }
                : { problem: [told.detail, told.allowed].filter(Boolean).join("; allowed: ") },
            );
          },
          () => end({ problem: "The service cannot be reached." }),
        );
    };
    return () => source.close();
  }, [path]);
  return study;
}
