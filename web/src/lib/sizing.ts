/** Sizing plans in an address: only what differs from the usual, as text that an address may carry. */

import type { SizingVariant } from "../api/client";

export function packed(variants: SizingVariant[], usual: SizingVariant): string {
  return JSON.stringify(
    variants.map((v) =>
      Object.fromEntries(
        Object.entries(v).filter(([key, value]) => value !== usual[key as keyof SizingVariant]),
      ),
    ),
  );
}

/** Null where the text is none, or of another make. */
export function unpacked(text: string, usual: SizingVariant): SizingVariant[] | null {
  try {
    const found: unknown = JSON.parse(text);
    if (!Array.isArray(found) || !found.length) return null;
    return found.slice(0, 3).map((v: Partial<SizingVariant>) => ({ ...usual, ...v }));
  } catch {
    return null;
  }
}
