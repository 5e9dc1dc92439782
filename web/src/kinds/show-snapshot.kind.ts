import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./ShowFields.vue"),
  wants: "Say under which name it is to be shown.",
  begun: (wish) => Boolean(wish.name),
  asks: ["volume", "snapshot"],
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
