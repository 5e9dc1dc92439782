/**
 * What the front end knows of a kind of change. Each has a file of its name in this folder that gives one of
 * these, and is found by that name: another kind is another file.
 */

import { inject, provide, type Component, type InjectionKey, type Ref } from "vue";
import { useRoute, type LocationQuery } from "vue-router";
import type { Barn, Preview } from "../api/client";
import type { Effect } from "../lib/effects";

export type Wish = Record<string, unknown>;

/** What can be set of a pool. */
export type Settings = Record<string, number | string | null | string[]>;
/** A list of words as it is typed, and back. */
export const worded = (list: unknown) => (Array.isArray(list) ? list.join(", ") : "");
export const words = (typed: string) =>
  typed
    .split(",")
    .map((word) => word.trim())
    .filter(Boolean);

export interface KindOfChange {
  /**
   * Its fields, with the wish as their model; they come when first asked for. None where the address says
   * everything.
   */
  fields?: () => Promise<{ default: Component }>;
  /** What is still wanted of the wish; said in place of blockers until it has begun. */
  wants?: string | ((barn: Barn) => string);
  /** Whether the wish is begun: until then nobody is told what is wrong with it. */
  begun?: (wish: Wish) => boolean;
  /** What of the address is its own; it goes as the sheet is closed. */
  asks?: readonly string[];
  /** The wish that the address alone makes. */
  start?: (asked: (name: string) => string) => Wish;
  /** The map beside it: to choose disks on, or to see what moves. */
  map?: "choose" | "moves";
  /** Effects that its own fields show already. */
  shows?: Effect["effect"][];
  /** It is wished for on a page of its own, not on the sheet. */
  elsewhere?: boolean;
  /** Where what it is about is looked at. */
  page: (about: string) => string;
}

const files = import.meta.glob<KindOfChange>("./*.kind.ts", { eager: true, import: "default" });

export function kindOf(name: unknown): KindOfChange | undefined {
  return typeof name === "string" ? files[`./${name}.kind.ts`] : undefined;
}

/** Every word of the address that some kind reads. */
export const ASKED = [
  ...new Set(["plan", "with-params", ...Object.values(files).flatMap((k) => k.asks ?? [])]),
];

/** One word of the address, or nothing. */
export const asking = (query: LocationQuery) => (name: string) => {
  const found = query[name];
  return typeof found === "string" ? found : "";
};

/** Several words of the address, as one lists them there. */
export const listed = (words: string) => words.split(",").filter(Boolean);

/** The volumes that the address names, or the one. */
export const volumesAsked = (asked: (name: string) => string) => listed(asked("volumes") || asked("volume"));

interface Sheet {
  barn: Ref<Barn | undefined>;
  preview: Ref<Preview | null>;
  /** Names of the disks chosen, on the map or in the fields. */
  chosen: Ref<Set<string>>;
  /** Below the map: what comes and goes with a preview stands there, so that the map stays where it is. */
  below: Readonly<Ref<HTMLElement | null>>;
}
const SHEET: InjectionKey<Sheet> = Symbol("sheet");
export const offer = (sheet: Sheet) => provide(SHEET, sheet);

/**
 * What the fields of a wish find around them: the site, the preview so far, chosen disks, and the address.
 */
export function useSheet() {
  const sheet = inject(SHEET);
  if (!sheet) throw new Error("fields of a wish stand on the sheet of a plan");
  return { ...sheet, asked: asking(useRoute().query) };
}
