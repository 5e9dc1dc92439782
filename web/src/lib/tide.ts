/** What the drawing of samples over time needs beside the samples: scales, and where lines break. */

import type { Samples } from "../api/client";
import { count, flow, milliseconds, often, percent, size } from "./format";

type Values = readonly (number | null)[];
/** A line of the drawing: what it says, its values, and the range of the samples that each was made from. */
export interface Line {
  words: string;
  up: boolean;
  values: Values;
  least: Values;
  most: Values;
}
/** What may be drawn of a thing: above the waterline and, where there is one, below it. */
export interface Kind {
  id: string;
  name: string;
  lines: (s: Samples) => Line[];
  say: (value: number) => string;
  sums: (s: Samples) => { words: string; average: number; usual: number; highest: number }[];
}

const NONE: Values = [];
type Measured = keyof Samples["measures"];

function both(into: Measured, out: Measured, said: [string, string]): Pick<Kind, "lines" | "sums"> {
  const pairs = [
    [into, said[0], true],
    [out, said[1], false],
  ] as const;
  return {
    lines: (s) =>
      pairs.flatMap(([measure, words, up]) => {
        const found = s.measures[measure];
        return found ? [{ words, up, values: found.mean, least: found.least, most: found.most }] : [];
      }),
    sums: (s) =>
      pairs.flatMap(([measure, words]) => {
        const found = s.measures[measure];
        if (found?.average == null || found.usual === null || found.highest === null) return [];
        return [{ words, average: found.average, usual: found.usual, highest: found.highest }];
      }),
  };
}

const line = (words: string, values: Values): Line => ({ words, up: true, values, least: NONE, most: NONE });

/** In the order in which they are offered; a port sends and receives. */
export const kindsOf = (of: Samples["of"]): Kind[] => {
  const bytes = both(
    "written_bytes",
    "read_bytes",
    of === "port" ? ["received", "sent"] : ["written", "read"],
  );
  const kinds: Kind[] = [{ id: "bytes", name: "Bytes", say: flow, ...bytes }];
  if (of === "port") return kinds;
  if (of === "disk") return [...kinds, HELD, ...SAID];
  kinds.push({
    id: "operations",
    name: "Operations",
    say: often,
    ...both("writes", "reads", ["writes", "reads"]),
  });
  if (of !== "node")
    kinds.push({
      id: "times",
      name: "How long they take",
      say: milliseconds,
      lines: (s) => [line("on average", s.mean_seconds), line("99 of 100 at the most", s.late_seconds)],
      sums: () => [],
    });
  const more = of === "pool" ? [FULL] : of === "volume" ? [SHORT] : [];
  return [...kinds, HELD, ...more];
};

/** One figure that stands, rather than flows. */
const standing = (
  id: Measured & string,
  name: string,
  words: string,
  say: (value: number) => string,
): Kind => ({
  id,
  name,
  say,
  lines: (s) => {
    const found = s.measures[id];
    return found ? [{ words, up: true, values: found.mean, least: found.least, most: found.most }] : [];
  },
  sums: () => [],
});
const HELD = { ...standing("held_bytes", "What is held", "held", size), id: "held" };
const FULL = standing("full", "How full it is", "of its room", percent);
const SHORT = standing("short", "What is short", "short", (n) => count(Math.round(n), "extent"));
const SAID = [
  standing("celsius", "Temperature", "as it says", (n) => `${n.toFixed(0)} °C`),
  standing("worn", "Life used", "of what it is rated for", percent),
  standing("defects", "Sectors gone bad", "by now", (n) => Math.round(n).toLocaleString("en")),
];
/** Which of them shows what a watch rule looks at. */
const SHOWS: Record<string, string> = {
  mean_time: "times",
  late_time: "times",
  reads: "operations",
  writes: "operations",
  held_bytes: "held",
};
export const kindFor = (metric: string) => SHOWS[metric] ?? metric;

const STEPS = [1, 2, 2.5, 5, 10];

/** The least round number that is no less: the height of the drawing. */
export function ceiling(most: number): number {
  if (!(most > 0)) return 1;
  const power = 10 ** Math.floor(Math.log10(most));
  return STEPS.map((step) => step * power).find((n) => n >= most * (1 - 1e-9)) ?? 10 * power;
}

/** Runs of points with a value, one after the other with none missing between them: from and up to. */
export function stretches(pieces: readonly (readonly number[])[], values: Values): [number, number][] {
  const found: [number, number][] = [];
  for (const [from, upTo] of pieces as [number, number][]) {
    let begin = -1;
    for (let i = from; i <= upTo; i += 1) {
      const there = i < upTo && values[i] != null;
      if (there && begin < 0) begin = i;
      if (!there && begin >= 0) {
        found.push([begin, i]);
        begin = -1;
      }
    }
  }
  return found;
}

const DAY = 24 * 3600;
const BETWEEN = [60, 120, 300, 600, 1800, 3600, 4 * 3600, DAY]; // seconds between two moments
const MOST_MOMENTS = 7;

/** A few round moments of the time drawn, by the clock on the wall here, with what is written there. */
export function moments(since: number, until: number): { at: number; words: string }[] {
  const step = BETWEEN.find((s) => (until - since) / s <= MOST_MOMENTS) ?? DAY;
  const shape: Intl.DateTimeFormatOptions =
    step < DAY ? { hour: "2-digit", minute: "2-digit" } : { weekday: "short", day: "numeric" };
  const zone = new Date(until * 1000).getTimezoneOffset() * 60;
  const found = [];
  for (let at = Math.ceil((since - zone) / step) * step + zone; at < until; at += step)
    found.push({ at, words: new Date(at * 1000).toLocaleString("en-GB", shape) });
  return found;
}

/** The point next to a moment; -1 where there is none. */
export function nearest(at: readonly number[], moment: number): number {
  let best = -1;
  at.forEach((one, i) => {
    if (best < 0 || Math.abs(one - moment) < Math.abs(at[best]! - moment)) best = i;
  });
  return best;
}
