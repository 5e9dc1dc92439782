import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["host"],
  start: (asked) => ({ host: asked("host") }),
  page: (about) => (about ? pathOf("host", about) : "/hosts"),
} satisfies KindOfChange;
