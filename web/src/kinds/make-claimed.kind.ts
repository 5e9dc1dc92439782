import type { KindOfChange } from "./kind";

export default {
  start: (asked) => ({ claims: asked("claims").split(",").filter(Boolean).map(Number) }),
  asks: ["claims"],
  page: () => "/consumers",
} satisfies KindOfChange;
