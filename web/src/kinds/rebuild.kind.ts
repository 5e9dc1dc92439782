import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["pool"],
  start: (asked) => ({ pool: asked("pool") }),
  map: "moves",
  page: (about) => pathOf("pool", about),
} satisfies KindOfChange;
