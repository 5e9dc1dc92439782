import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./DisconnectFields.vue"),
  wants: "Type its name to confirm.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["orchestrator"],
  page: () => "/consumers/orchestrators",
} satisfies KindOfChange;
