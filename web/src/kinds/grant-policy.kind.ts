import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./GrantFields.vue"),
  wants: "Say to which namespace, and which policy.",
  begun: (wish) => Boolean(wish.namespace) && Boolean(wish.policy),
  asks: ["orchestrator", "namespace", "policy"],
  page: () => "/consumers/namespaces",
} satisfies KindOfChange;
