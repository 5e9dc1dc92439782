import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./AttachFields.vue"),
  wants: "Choose a volume, and the hosts that are to reach it.",
  begun: (wish) => Boolean(wish.volume) && (wish.hosts as string[]).length > 0,
  asks: ["volume", "hosts"],
  page: (about) => pathOf("reach", about),
} satisfies KindOfChange;
