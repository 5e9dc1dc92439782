import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./KeepOnFields.vue"),
  wants: "Choose the nodes or disks that may hold it, or none for any of its pool.",
  begun: (wish) => wish.only_on !== undefined,
  asks: ["volume"],
  map: "moves",
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
