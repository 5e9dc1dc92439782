import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./VmFields.vue"),
  wants: (barn) =>
    barn.pools.length
      ? "Give it a name and its disks, or load a descriptor of it."
      : "Its volumes draw from a pool, and there is none yet. Form a pool first.",
  asks: ["policy"],
  begun: (wish) => Boolean(wish.name),
  map: "moves",
  page: (about) => (about ? pathOf("vm", about) : "/vms"),
} satisfies KindOfChange;
