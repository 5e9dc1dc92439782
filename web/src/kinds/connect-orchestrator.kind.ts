import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./OrchestratorFields.vue"),
  wants: "Give it a name, the address of its API, and the token of the account that was made there.",
  begun: (wish) => Boolean(wish.name) && Boolean(wish.url) && Boolean(wish.token || wish.orchestrator),
  asks: ["orchestrator"],
  page: () => "/consumers/orchestrators",
} satisfies KindOfChange;
