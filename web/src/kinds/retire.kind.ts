import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./RetireFields.vue"),
  wants: "Choose what is to be emptied and let go.",
  begun: (wish) => (wish.names as string[] | undefined)?.some(Boolean) ?? false,
  asks: ["disk", "node", "rack"],
  map: "moves",
  page: () => "/machines",
} satisfies KindOfChange;
