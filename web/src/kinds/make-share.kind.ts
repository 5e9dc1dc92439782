import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./ShareFields.vue"),
  wants: (barn) =>
    barn.pools.length
      ? "Give it a name, a quota, and say who may mount it."
      : "Its volume draws from a pool, and there is none yet. Form a pool first.",
  asks: ["policy"],
  begun: (wish) => Boolean(wish.name) && Boolean(wish.quota),
  map: "moves",
  page: (about) => (about ? pathOf("share", about) : "/shares"),
} satisfies KindOfChange;
