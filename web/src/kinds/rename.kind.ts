import { listed, type KindOfChange } from "./kind";

export default {
  fields: () => import("./RenameFields.vue"),
  wants: "Choose nodes and write their new names.",
  begun: (wish) => Boolean(wish.pattern),
  asks: ["nodes"],
  start: (asked) => ({ nodes: listed(asked("nodes")), pattern: "" }),
  page: () => "/machines?show=nodes",
} satisfies KindOfChange;
