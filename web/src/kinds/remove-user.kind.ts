import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["share", "user"],
  start: (asked) => ({ share: asked("share"), user: asked("user") }),
  page: (about) => pathOf("share", about),
} satisfies KindOfChange;
