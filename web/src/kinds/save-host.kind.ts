import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./HostFields.vue"),
  wants: "Give it a name, and the name by which its initiator connects.",
  begun: (wish) => Boolean(wish.name) && (wish.initiators as string[]).length > 0,
  asks: ["host"],
  page: (about) => pathOf("host", about),
} satisfies KindOfChange;
