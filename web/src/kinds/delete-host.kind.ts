import type { KindOfChange } from "./kind";

export default {
  asks: ["host"],
  start: (asked) => ({ host: asked("host") }),
  page: () => "/hosts",
} satisfies KindOfChange;
