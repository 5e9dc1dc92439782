import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./PolicyFields.vue"),
  wants: "Give it a name.",
  begun: (wish) => Boolean(wish.name),
  asks: ["policy", "by", "k", "m", "over", "share"],
  page: (about) => pathOf("policy", about),
} satisfies KindOfChange;
