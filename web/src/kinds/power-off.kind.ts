import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./PowerOffFields.vue"),
  asks: ["vm"],
  start: (asked) => ({ vm: asked("vm") }),
  page: (about) => (about ? pathOf("vm", about) : "/vms"),
} satisfies KindOfChange;
