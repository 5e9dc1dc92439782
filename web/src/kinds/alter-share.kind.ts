import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./ShareFields.vue"),
  wants: "Say what is to be otherwise.",
  begun: (wish) => Object.keys(wish).length > 1,
  asks: ["share", "quota"],
  page: (about) => pathOf("share", about),
} satisfies KindOfChange;
