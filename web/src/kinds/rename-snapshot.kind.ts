import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./SnapshotNameFields.vue"),
  wants: "Say how it is to be called.",
  begun: (wish) => Boolean(wish.name),
  asks: ["volume", "snapshot"],
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
