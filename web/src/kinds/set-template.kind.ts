import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  asks: ["vm", "template"],
  start: (asked) => ({ vm: asked("vm"), template: asked("template") !== "no" }),
  page: (about) => pathOf("vm", about),
} satisfies KindOfChange;
