import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./SetPoolFields.vue"),
  asks: ["pool"],
  page: (about) => pathOf("pool", about),
} satisfies KindOfChange;
