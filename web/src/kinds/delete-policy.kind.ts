import type { KindOfChange } from "./kind";

export default {
  asks: ["policy"],
  start: (asked) => ({ policy: asked("policy") }),
  page: () => "/policies",
} satisfies KindOfChange;
