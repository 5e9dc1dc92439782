import { listed, type KindOfChange } from "./kind";

export default {
  fields: () => import("./AddressFields.vue"),
  wants: "Choose nodes, a port and the first address.",
  begun: (wish) => Boolean(wish.start),
  asks: ["nodes", "port"],
  start: (asked) => ({ nodes: listed(asked("nodes")), port: asked("port"), start: "" }),
  page: () => "/machines?show=nodes",
} satisfies KindOfChange;
