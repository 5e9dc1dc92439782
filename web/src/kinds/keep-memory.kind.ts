import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./MemoryFields.vue"),
  asks: ["vm"],
  page: (about) => (about ? pathOf("vm", about) : "/vms"),
} satisfies KindOfChange;
