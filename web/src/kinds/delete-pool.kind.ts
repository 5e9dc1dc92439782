import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./TypedFields.vue"),
  wants: "Read what would be given up, then type the pool's name.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["pool"],
  start: (asked) => ({ pool: asked("pool"), typed: "" }),
  page: () => "/pools",
} satisfies KindOfChange;
