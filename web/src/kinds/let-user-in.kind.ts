import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./ShareUserFields.vue"),
  wants: "Say who signs in.",
  begun: (wish) => Boolean(wish.user),
  asks: ["share", "user"],
  page: (about) => pathOf("share", about),
} satisfies KindOfChange;
