import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["volume"],
  start: (asked) => ({ volume: asked("volume") }),
  map: "moves",
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
