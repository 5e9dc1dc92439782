import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./VmHostFields.vue"),
  wants: "Give it the address of its service, and the account by which it is asked.",
  begun: (wish) => Boolean(wish.url) && Boolean(wish.user),
  asks: ["host"],
  page: (about) => (about ? pathOf("host", about) : "/hosts"),
} satisfies KindOfChange;
