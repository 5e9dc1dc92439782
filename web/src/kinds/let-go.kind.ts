import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./HeirFields.vue"),
  asks: ["node"],
  start: (asked) => ({ node: asked("node"), successor: "" }),
  page: (about) => pathOf("node", about),
} satisfies KindOfChange;
