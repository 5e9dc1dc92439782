import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./TypedFields.vue"),
  wants: "Read what would be destroyed, then type the disk's name.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["disk"],
  start: (asked) => ({ disk: asked("disk"), typed: "" }),
  page: (about) => pathOf("disk", about),
} satisfies KindOfChange;
