import { pageOfVolumes } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./VolumeFields.vue"),
  wants: (barn) =>
    barn.pools.length
      ? "Give it a name and a size."
      : "A volume draws from a pool, and there is none yet. Form a pool first.",
  asks: ["policy"],
  begun: (wish) => Boolean(wish.name || wish.table),
  map: "moves",
  page: pageOfVolumes,
} satisfies KindOfChange;
