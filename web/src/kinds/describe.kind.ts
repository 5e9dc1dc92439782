import type { KindOfChange } from "./kind";

export default { page: () => "/text", elsewhere: true } satisfies KindOfChange;
