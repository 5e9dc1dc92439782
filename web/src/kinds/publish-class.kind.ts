import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./ClassFields.vue"),
  wants: "Give it a name, and say which policy it stands for.",
  begun: (wish) => Boolean(wish.name) && Boolean(wish.policy),
  asks: ["class", "name", "policy"],
  page: () => "/consumers/classes",
} satisfies KindOfChange;
