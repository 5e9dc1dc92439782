import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["vm"],
  start: (asked) => ({ vm: asked("vm") }),
  page: (about) => pathOf("vm", about),
} satisfies KindOfChange;
