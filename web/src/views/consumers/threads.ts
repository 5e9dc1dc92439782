/** How threads are drawn from namespaces through classes to pools. */

import type { Thread } from "../../api/client";
import { binarySize, count } from "../../lib/format";

const BAR = 5;
const LEAST = 15; // of a post, so that its words have a place
const GAP = 8;

export interface Post {
  key: string;
  column: number;
  name: string;
  of: string; // the orchestrator, of a namespace
  bytes: number;
  claims: number;
  x: number;
  y: number;
  height: number;
  label: number;
}
interface Ribbon {
  key: string;
  path: string;
  title: string;
  aside: boolean;
}

/** Names of what a thread goes through, from left to right. */
const through = (t: Thread) => [t.namespace, t.class_name, t.pool] as const;
const keyOf = (t: Thread, column: number) =>
  column === 0 ? `0 ${t.orchestrator}/${t.namespace}` : `${column} ${through(t)[column]}`;

export function threadsOf(threads: Thread[], width: number, height: number) {
  const posts = new Map<string, Post>();
  for (const t of threads) {
    for (const column of [0, 1, 2]) {
      const key = keyOf(t, column);
      const x = Math.round(((width - BAR) / 2) * column);
      const name = through(t)[column]!;
      const fresh = {
        key,
        column,
        name,
        of: t.orchestrator,
        bytes: 0,
        claims: 0,
        x,
        y: 0,
        height: 0,
        label: 0,
      };
      const post = posts.get(key) ?? fresh;
      posts.set(key, Object.assign(post, { bytes: post.bytes + t.bytes, claims: post.claims + t.claims }));
    }
  }
  // One scale for all, by the column that has the least room for it.
  const columns = [0, 1, 2].map((column) => [...posts.values()].filter((p) => p.column === column));
  const scale = Math.min(
    ...columns.map((mine) => {
      const room = height - GAP * (mine.length - 1) - LEAST * mine.length;
      return (
        Math.max(0, room) /
        Math.max(
          1,
          mine.reduce((n, p) => n + p.bytes, 0),
        )
      );
    }),
  );
  for (const mine of columns) {
    const taken = mine.reduce((n, p) => n + LEAST + p.bytes * scale, 0) + GAP * (mine.length - 1);
    let y = Math.max(0, (height - taken) / 2);
    for (const post of mine) {
      post.y = y;
      post.height = LEAST + post.bytes * scale;
      post.label = y + post.height / 2 + 4.5;
      y += post.height + GAP;
    }
  }
  return { posts: [...posts.values()], ribbons: ribbonsOf(threads, posts, scale) };
}

function ribbonsOf(threads: Thread[], posts: Map<string, Post>, scale: number): Ribbon[] {
  const taken = new Map<string, number>();
  /** Where the next thread meets a post, on one side of it. */
  const meet = (key: string, side: string, thick: number) => {
    const post = posts.get(key)!;
    const share = (post.height * thick) / Math.max(1e-9, post.bytes * scale);
    const from = taken.get(key + side) ?? post.y;
    taken.set(key + side, from + share);
    return [from, from + share] as const;
  };
  return threads.flatMap((t) =>
    [0, 1].map((column) => {
      const [left, right] = [keyOf(t, column), keyOf(t, column + 1)];
      const thick = t.bytes * scale;
      const [a, b] = meet(left, "right", thick);
      const [c, d] = meet(right, "left", thick);
      const x = posts.get(left)!.x + BAR;
      const far = posts.get(right)!.x;
      const bend = (x + far) / 2;
      return {
        key: `${left} ${right} ${t.namespace} ${t.pool} ${t.aside}`,
        path: `M${x} ${a}C${bend} ${a} ${bend} ${c} ${far} ${c}V${d}C${bend} ${d} ${bend} ${b} ${x} ${b}Z`,
        title:
          `${t.namespace} by ${t.class_name} from ${t.pool}: ` +
          `${binarySize(t.bytes)} in ${count(t.claims, "claim")}${t.aside ? ", kept aside" : ""}`,
        aside: t.aside,
      };
    }),
  );
}
