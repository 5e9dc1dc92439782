import { listed, type KindOfChange } from "./kind";

export default {
  fields: () => import("./PurposeFields.vue"),
  asks: ["nodes", "port"],
  start: (asked) => ({ nodes: listed(asked("nodes")), port: asked("port"), purpose: "storage" }),
  page: () => "/machines?show=nodes",
} satisfies KindOfChange;
