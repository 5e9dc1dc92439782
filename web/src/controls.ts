import { createVuetify } from "vuetify";
import { aliases, mdi } from "vuetify/iconsets/mdi-svg";
import "vuetify/styles/core";

/**
 * The library's controls, dressed once: what they are without saying so at every use. Their look is in
 * styles/controls.css.
 */

const palette = (dark: boolean, background: string, surface: string, primary: string, error: string) => ({
  dark,
  colors: { background, surface, primary, error },
});
// The label stands above its field, so nothing has to float; a field says what is wrong only where
// something is.
const field = {
  variant: "solo",
  flat: true,
  singleLine: true,
  density: "compact",
  hideDetails: "auto",
} as const;
const pick = { density: "compact", hideDetails: "auto", color: "primary" } as const;

export const controls = createVuetify({
  icons: { defaultSet: "mdi", aliases, sets: { mdi } },
  defaults: {
    global: { ripple: false, elevation: 0 },
    VBtn: { variant: "plain" },
    VTextField: { ...field, autocomplete: "off" },
    VTextarea: { ...field, noResize: true },
    VSelect: { ...field, menuProps: { contentClass: "options", transition: "none" } },
    VAutocomplete: field,
    VCombobox: { ...field, menuProps: { contentClass: "options", transition: "none" } },
    VCheckbox: pick,
    VTable: { density: "compact" },
    VMenu: { transition: "none" },
    VDialog: { transition: "none" },
    VTabs: { density: "compact", height: 26 },
  },
  theme: {
    defaultTheme: "day",
    themes: {
      day: palette(false, "#f6f1e7", "#fcf9f3", "#3f6b8a", "#b84e00"),
      night: palette(true, "#151b1d", "#1c2426", "#86b3d1", "#f07a2b"),
    },
  },
});
