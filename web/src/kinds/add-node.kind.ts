import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./JoinFields.vue"),
  asks: ["node"],
  start: (asked) => ({ node: asked("node"), keeper: false }),
  page: (about) => pathOf("node", about),
} satisfies KindOfChange;
