import type { KindOfChange } from "./kind";

export default {
  start: () => ({}),
  page: () => "/shares",
} satisfies KindOfChange;
