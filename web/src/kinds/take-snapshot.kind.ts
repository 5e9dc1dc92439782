import { pageOfVolumes } from "../lib/paths";
import { volumesAsked, type KindOfChange } from "./kind";

export default {
  fields: () => import("./SnapshotFields.vue"),
  asks: ["volume", "volumes"],
  start: (asked) => ({ volumes: volumesAsked(asked) }),
  wants: "Say how it is to be called.",
  begun: (wish) => Boolean(wish.name),
  page: pageOfVolumes,
} satisfies KindOfChange;
