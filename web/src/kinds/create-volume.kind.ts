import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";
import VolumeFields from "./VolumeFields.vue";

export default {
  fields: VolumeFields,
  wants: "Give it a name and a size.",
  begun: (wish) => Boolean(wish.name) || wish.pool === "",
  map: "moves",
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
