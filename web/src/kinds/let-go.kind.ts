import { pathOf } from "../lib/paths";
import HeirFields from "./HeirFields.vue";
import type { KindOfChange } from "./kind";

export default {
  fields: HeirFields,
  asks: ["node"],
  start: (asked) => ({ node: asked("node"), successor: "" }),
  page: (about) => pathOf("node", about),
} satisfies KindOfChange;
