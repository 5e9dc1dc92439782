import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./TypedFields.vue"),
  wants: "Read what would be destroyed, then type the volume's name.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["volume"],
  start: (asked) => ({ volume: asked("volume"), typed: "" }),
  page: () => "/volumes",
} satisfies KindOfChange;
