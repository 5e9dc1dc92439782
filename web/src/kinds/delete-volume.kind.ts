import { volumesAsked, type KindOfChange } from "./kind";

export default {
  fields: () => import("./DeleteFields.vue"),
  wants: "Read who would lose it, then type what is asked for.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["volume", "volumes"],
  start: (asked) => ({ volumes: volumesAsked(asked), typed: "" }),
  page: () => "/volumes",
} satisfies KindOfChange;
