import { pageOfVolumes } from "../lib/paths";
import { volumesAsked, type KindOfChange } from "./kind";

export default {
  asks: ["volume", "volumes"],
  start: (asked) => ({ volumes: volumesAsked(asked) }),
  page: pageOfVolumes,
} satisfies KindOfChange;
