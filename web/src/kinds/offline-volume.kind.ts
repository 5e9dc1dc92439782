import { pageOfVolumes } from "../lib/paths";
import { volumesAsked, type KindOfChange } from "./kind";

export default {
  asks: ["volume", "volumes", "offline"],
  start: (asked) => ({ volumes: volumesAsked(asked), offline: asked("offline") !== "no" }),
  page: pageOfVolumes,
} satisfies KindOfChange;
