import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["share"],
  start: (asked) => ({ share: asked("share") }),
  page: (about) => pathOf("share", about),
} satisfies KindOfChange;
