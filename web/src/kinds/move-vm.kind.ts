import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./MoveFields.vue"),
  wants: "Choose the pool that all its volumes are to lie in.",
  begun: (wish) => Boolean(wish.pool),
  asks: ["vm"],
  map: "moves",
  page: (about) => (about ? pathOf("vm", about) : "/vms"),
} satisfies KindOfChange;
