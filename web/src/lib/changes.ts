import type { Change, ChangePage, Lamp } from "../api/client";

/** States of a change, as they are said and shown everywhere. */
export const CHANGE_WORDS: Record<ChangePage["state"], string> = {
  waiting: "waits its turn",
  running: "running",
  paused: "paused",
  done: "done",
  withdrawn: "withdrawn",
};
export const CHANGE_LAMPS: Record<ChangePage["state"], Lamp> = {
  waiting: "away",
  running: "mending",
  paused: "short",
  done: "sound",
  withdrawn: "away",
};

/** How far a change is, 0 to 1: by bytes where it moves any, else by steps. */
export const doneOf = (c: Change) =>
  c.total_bytes
    ? c.done_bytes / c.total_bytes
    : c.steps.filter((s) => s.state === "done").length / Math.max(1, c.steps.length);
