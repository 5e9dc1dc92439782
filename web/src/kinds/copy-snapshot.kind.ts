import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./CopyFields.vue"),
  wants: "Say how the new volume is to be called.",
  begun: (wish) => Boolean(wish.name),
  asks: ["volume", "snapshot"],
  map: "moves",
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
