import type { ChangePage, Lamp } from "../api/client";

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
