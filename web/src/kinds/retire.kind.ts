import RetireFields from "./RetireFields.vue";
import type { KindOfChange } from "./kind";

export default {
  fields: RetireFields,
  wants: "Choose what is to be emptied and let go.",
  begun: (wish) => (wish.names as string[] | undefined)?.some(Boolean) ?? false,
  asks: ["disk", "node", "rack"],
  map: "moves",
  page: () => "/machines",
} satisfies KindOfChange;
