import type { KindOfChange } from "./kind";

export default {
  start: (asked) => ({ storage_class: asked("class") }),
  asks: ["class"],
  page: () => "/consumers/classes",
} satisfies KindOfChange;
