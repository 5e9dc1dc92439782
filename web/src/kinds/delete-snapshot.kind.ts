import { pathOf } from "../lib/paths";
import { listed, type KindOfChange } from "./kind";

export default {
  fields: () => import("./TypedFields.vue"),
  wants: "Read what would be gone with them, then type what is asked for.",
  begun: (wish) => Boolean(wish.typed),
  asks: ["volume", "snapshots"],
  start: (asked) => ({ volume: asked("volume"), snapshots: listed(asked("snapshots")), typed: "" }),
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
