import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./DeleteFields.vue"),
  wants: "Read who would lose it, then type what is asked for.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["share"],
  start: (asked) => ({ share: asked("share"), typed: "" }),
  page: () => "/shares",
} satisfies KindOfChange;
