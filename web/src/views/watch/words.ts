import type { Incident, Message, Unit } from "../../api/client";
import type { Lamp } from "../../api/client";
import { clock, span } from "../../lib/format";

/** How an incident is shown: over, seen to, or as it matters. */
export const lampOf = (i: Incident): Lamp =>
  i.ended !== null ? "sound" : i.severity === "urgent" ? "failed" : "watch";

export const at = (seconds: number | null) =>
  seconds === null ? "" : clock(new Date(seconds * 1000).toISOString());

/** Whether and to whom it matters still: what was told, who sees to it, until when nothing is told. */
export function standing(i: Incident, now = Date.now() / 1000): string {
  const words = [i.told ? "told" : "not told"];
  if (i.seen_by) words.push(`${i.seen_by} sees to it since ${at(i.seen_at)}`);
  if (i.silent_until !== null && i.silent_until > now) words.push(`silent until ${at(i.silent_until)}`);
  return words.join(", ");
}

export const lasted = (i: { begun: number; ended: number | null }) =>
  i.ended === null ? `since ${at(i.begun)}` : `${at(i.begun)}, for ${span(i.ended - i.begun)}`;

export const EVENTS: Record<Message["event"], string> = {
  fired: "it began",
  worse: "it got worse",
  over: "it is over",
  test: "a test",
};

/** How figures of a unit are typed: times what, and what stands behind the field. */
export const TYPED: Record<Unit, [times: number, words: string]> = {
  seconds: [1000, "ms"],
  "a second": [1, "a second"],
  "bytes a second": [1e-6, "MB/s"],
  bytes: [1e-9, "GB"],
  share: [100, "%"],
  extents: [1, "extents"],
  celsius: [1, "°C"],
  sectors: [1, "sectors"],
};

/** A figure as it is typed, without the noise of floating point. */
export const typed = (unit: Unit, value: number) => String(Number((value * TYPED[unit][0]).toPrecision(6)));
export const meant = (unit: Unit, text: string) => Number(text.replace(",", ".")) / TYPED[unit][0];
export const said = (unit: Unit, value: number) => `${shortly(value * TYPED[unit][0])} ${TYPED[unit][1]}`;
const shortly = (value: number) =>
  Math.abs(value) >= 100 ? Math.round(value).toLocaleString("en") : String(Number(value.toPrecision(3)));
