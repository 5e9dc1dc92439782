import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./SizeFields.vue"),
  wants: "Say how large it is to be.",
  begun: (wish) => Boolean(wish.size),
  asks: ["volume"],
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
