import { overs, reasons } from "../service-words";
import { seconds } from "../words";
import type { Known, PlayedPage } from "./played-page";

/** What the service knows of a page's session, and what it is waiting for, counting down. */
export function Knowledge({ played, now }: { played: PlayedPage; now: number }) {
  const { known } = played;
  if (known === undefined) return <Line mark="…" text="The service does not know it yet." />;
  if (known === "ended") {
    return <Line mark="ended" text="The session has ended." tone="text-muted" />;
  }
  if (known.state === "grace") {
    const end = known.next.find((n) => n.act === "leave" || n.act === "end-grace");
    const left = Math.max(0, Date.parse(end?.at ?? "") - now);
    const whole = Date.parse(end?.at ?? "") - Date.parse(known.lost_at ?? "");
    return (
      <Line
        mark="grace"
        tone="text-lamp"
        text={`Others still see it, for ${(left / 1000).toFixed(1)} s: ${reasons[known.reason ?? ""]?.lost ?? known.reason}.`}
        part={left / whole}
      />
    );
  }
  return (
    <Line mark="live" tone="text-reed" text={`Link ${known.link}${over(played)}. ${upcoming(known, now)}`} />
  );
}

function over(played: PlayedPage): string {
  const kind = played.link?.snapshot.state.over;
  return kind ? `, over ${overs[kind]}` : "";
}

function upcoming(known: Known, now: number): string {
  const due = (act: string) => known.next.find((n) => n.act === act);
  const lost = due("lose");
  const idle = due("fall-idle");
  const within = (at: string) => minutes(Math.max(0, Date.parse(at) - now));
  if (lost) return `Asked for a beat; declared lost in ${within(lost.at)}.`;
  if (known.idle) return "Idle: nobody is there.";
  return idle ? `Idle in ${within(idle.at)} if nobody does anything.` : "";
}

function minutes(ms: number): string {
  const whole = Math.round(ms / 1000);
  return whole < 60
    ? seconds(whole * 1000)
    : `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")} min`;
}

function Line(props: { mark: string; text: string; tone?: string; part?: number }) {
  return (
    <div className="min-h-14 border-line border-t bg-wash/50 px-3 py-2 text-xs" data-known={props.mark}>
      <p>
        <b className={`mr-2 font-semibold ${props.tone ?? ""}`}>{props.mark}</b>
        {props.text}
      </p>
      {props.part !== undefined && (
        <div className="mt-1.5 h-1 overflow-hidden rounded-full bg-line" aria-hidden="true">
          <div
            className="h-full rounded-full bg-lamp"
            style={{ width: `${Math.min(1, props.part) * 100}%` }}
          />
        </div>
      )}
    </div>
  );
}
