import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./ReplaceFields.vue"),
  wants: "Choose the disk that takes its place.",
  begun: (wish) => Boolean(wish.by),
  asks: ["disk"],
  start: (asked) => ({ disk: asked("disk"), by: "" }),
  map: "moves",
  page: (about) => pathOf("disk", about),
} satisfies KindOfChange;
