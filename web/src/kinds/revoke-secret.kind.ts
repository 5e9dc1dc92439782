import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./TypedFields.vue"),
  wants: "Read who would be let go, then type the secret's name.",
  begun: (wish) => Boolean(wish.typed),
  start: (asked) => ({ orchestrator: asked("orchestrator"), secret: asked("secret"), typed: "" }),
  asks: ["orchestrator", "secret"],
  page: () => "/consumers/orchestrators",
} satisfies KindOfChange;
