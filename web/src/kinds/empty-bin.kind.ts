import { listed, type KindOfChange } from "./kind";

export default {
  fields: () => import("./TypedFields.vue"),
  wants: "Read what would be destroyed, then type the name.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["pool", "volumes"],
  start: (asked) => ({ pool: asked("pool"), volumes: listed(asked("volumes")), typed: "" }),
  page: () => "/volumes",
} satisfies KindOfChange;
