import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./PoolFields.vue"),
  wants: "Give it a name and choose disks: by the buttons above, or on the map.",
  begun: (wish) => Boolean(wish.name) || (wish.disks as string[] | undefined)?.length !== 0,
  map: "choose",
  shows: ["roles"],
  page: (about) => pathOf("pool", about),
} satisfies KindOfChange;
