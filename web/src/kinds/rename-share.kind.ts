import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./NameFields.vue"),
  wants: "Say how it is to be called.",
  begun: (wish) => Boolean(wish.name),
  asks: ["share"],
  page: (about) => pathOf("share", about),
} satisfies KindOfChange;
