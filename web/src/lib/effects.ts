/** The effects of a preview, told apart by their tags. */
import type { Preview } from "../api/client";

export type Effect = Preview["effects"][number];
export type EffectOf<K extends Effect["effect"]> = Extract<Effect, { effect: K }>;

export function everyEffect<K extends Effect["effect"]>(preview: Preview | null, kind: K): EffectOf<K>[] {
  return (preview?.effects ?? []).filter((e): e is EffectOf<K> => e.effect === kind);
}
