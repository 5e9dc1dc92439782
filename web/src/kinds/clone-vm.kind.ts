import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./CloneFields.vue"),
  wants: "Give the new VM a name.",
  begun: (wish) => Boolean(wish.name),
  asks: ["vm", "snapshot"],
  map: "moves",
  page: (about) => pathOf("vm", about),
} satisfies KindOfChange;
