/** `v-first`: the field that the cursor is in when a sheet opens. */

import type { Directive } from "vue";

const FIELD = "input, textarea";
const TRIES = 30; // frames, until it can be seen

/** Puts the cursor there as soon as that can be, and never takes it from somebody who is typing in the same
 * sheet already. */
function takeTurn(input: HTMLElement, sheet: Element, tries: number) {
  const active = document.activeElement;
  if (!input.isConnected || (active?.matches(FIELD) && sheet.contains(active))) return;
  input.focus();
  if (document.activeElement !== input && tries)
    requestAnimationFrame(() => takeTurn(input, sheet, tries - 1));
}

export const first: Directive<HTMLElement, boolean | undefined> = {
  mounted(el, { value }) {
    const input = el.querySelector<HTMLElement>(FIELD);
    if (value !== false && input) takeTurn(input, el.closest("[role=dialog]") ?? document.body, TRIES);
  },
};
