import type { KindOfChange } from "./kind";

export default {
  start: (asked) => ({ orchestrator: asked("orchestrator") }),
  asks: ["orchestrator"],
  page: () => "/consumers/orchestrators",
} satisfies KindOfChange;
