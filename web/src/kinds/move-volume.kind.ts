import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./MoveFields.vue"),
  wants: "Choose the pool that it is to lie in.",
  begun: (wish) => Boolean(wish.pool),
  asks: ["volume"],
  map: "moves",
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
