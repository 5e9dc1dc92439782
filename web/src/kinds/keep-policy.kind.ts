import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./KeepFields.vue"),
  wants: "Choose volumes, and the policy that they are to keep.",
  begun: (wish) => Boolean(wish.policy) && (wish.volumes as string[]).length > 0,
  asks: ["volumes", "policy"],
  page: (about) => pathOf("policy", about),
} satisfies KindOfChange;
