import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./RestoreFields.vue"),
  wants: "Say how the present is to be called that is kept first.",
  begun: (wish) => Boolean(wish.keep_as),
  asks: ["vm", "snapshot"],
  page: (about) => pathOf("vm", about),
} satisfies KindOfChange;
