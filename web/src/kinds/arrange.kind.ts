import type { KindOfChange } from "./kind";

export default { page: () => "/arrange" } satisfies KindOfChange;
