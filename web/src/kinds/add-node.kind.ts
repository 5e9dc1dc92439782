import { pathOf } from "../lib/paths";
import JoinFields from "./JoinFields.vue";
import type { KindOfChange } from "./kind";

export default {
  fields: JoinFields,
  asks: ["node"],
  start: (asked) => ({ node: asked("node"), keeper: false }),
  page: (about) => pathOf("node", about),
} satisfies KindOfChange;
