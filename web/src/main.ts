import "@fontsource-variable/atkinson-hyperlegible-mono";
import "@fontsource-variable/atkinson-hyperlegible-next";
import { VueQueryPlugin } from "@tanstack/vue-query";
import { createPinia } from "pinia";
import { createApp } from "vue";
import { createVuetify } from "vuetify";
import { aliases, mdi } from "vuetify/iconsets/mdi-svg";
import "vuetify/styles/core";
import { queries } from "./api/client";
import App from "./App.vue";
import { router } from "./router";
import "./styles/tokens.css";
import "./styles/base.css";

const palette = (dark: boolean, background: string, surface: string, primary: string, error: string) => ({
  dark,
  colors: { background, surface, primary, error },
});
const vuetify = createVuetify({
  icons: { defaultSet: "mdi", aliases, sets: { mdi } },
  theme: {
    defaultTheme: "day",
    themes: {
      day: palette(false, "#f6f1e7", "#fcf9f3", "#3f6b8a", "#b84e00"),
      night: palette(true, "#151b1d", "#1c2426", "#86b3d1", "#f07a2b"),
    },
  },
});

createApp(App)
  .use(createPinia())
  .use(VueQueryPlugin, { queryClient: queries })
  .use(vuetify)
  .use(router)
  .mount("#app");
