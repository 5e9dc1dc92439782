import { pathOf } from "../lib/paths";
import GrowFields from "./GrowFields.vue";
import type { KindOfChange } from "./kind";

export default {
  fields: GrowFields,
  wants: "Choose disks: by the buttons above, or on the map.",
  begun: (wish) => (wish.disks as string[] | undefined)?.length !== 0,
  asks: ["pool"],
  start: (asked) => ({ pool: asked("pool"), disks: [] }),
  map: "choose",
  page: (about) => pathOf("pool", about),
} satisfies KindOfChange;
