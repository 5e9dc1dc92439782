import { pathOf } from "../lib/paths";
import ReplaceFields from "./ReplaceFields.vue";
import type { KindOfChange } from "./kind";

export default {
  fields: ReplaceFields,
  wants: "Choose the disk that takes its place.",
  begun: (wish) => Boolean(wish.by),
  asks: ["disk"],
  start: (asked) => ({ disk: asked("disk"), by: "" }),
  map: "moves",
  page: (about) => pathOf("disk", about),
} satisfies KindOfChange;
