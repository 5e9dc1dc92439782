import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./PowerOnFields.vue"),
  asks: ["vm"],
  start: (asked) => ({ vm: asked("vm"), host: "" }),
  page: (about) => (about ? pathOf("vm", about) : "/vms"),
} satisfies KindOfChange;
