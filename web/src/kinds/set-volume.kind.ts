import { pageOfVolumes } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./SetVolumeFields.vue"),
  asks: ["volume", "volumes"],
  page: pageOfVolumes,
} satisfies KindOfChange;
