import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./DetachFields.vue"),
  wants: "Choose the hosts that are to reach it no more.",
  begun: (wish) => (wish.hosts as string[]).length > 0,
  asks: ["volume", "hosts"],
  page: (about) => pathOf("reach", about),
} satisfies KindOfChange;
