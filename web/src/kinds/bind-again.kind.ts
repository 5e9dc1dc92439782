import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./BindAgainFields.vue"),
  wants: "Choose the claim that is to have it.",
  begun: (wish) => Boolean(wish.to),
  asks: ["claim", "to"],
  page: () => "/consumers/aside",
} satisfies KindOfChange;
