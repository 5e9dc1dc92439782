import type { KindOfChange } from "./kind";

export default {
  start: (asked) => ({
    orchestrator: asked("orchestrator"),
    namespace: asked("namespace"),
    policy: asked("policy"),
  }),
  asks: ["orchestrator", "namespace", "policy"],
  page: () => "/consumers/namespaces",
} satisfies KindOfChange;
