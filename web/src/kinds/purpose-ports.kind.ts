import PurposeFields from "./PurposeFields.vue";
import { listed, type KindOfChange } from "./kind";

export default {
  fields: PurposeFields,
  asks: ["nodes", "port"],
  start: (asked) => ({ nodes: listed(asked("nodes")), port: asked("port"), purpose: "storage" }),
  page: () => "/machines?show=nodes",
} satisfies KindOfChange;
