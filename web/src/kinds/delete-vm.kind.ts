import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./DeleteFields.vue"),
  wants: "Read who would lose it, then type what is asked for.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["vm"],
  start: (asked) => ({ vm: asked("vm"), typed: "" }),
  page: () => "/vms",
} satisfies KindOfChange;
