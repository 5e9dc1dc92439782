import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./GrowFields.vue"),
  wants: "Choose disks: by the buttons above, or on the map.",
  begun: (wish) => (wish.disks as string[] | undefined)?.length !== 0,
  asks: ["pool"],
  start: (asked) => ({ pool: asked("pool"), disks: [] }),
  map: "choose",
  page: (about) => pathOf("pool", about),
} satisfies KindOfChange;
