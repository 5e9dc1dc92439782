import "@fontsource-variable/atkinson-hyperlegible-mono";
import "@fontsource-variable/atkinson-hyperlegible-next";
import { VueQueryPlugin } from "@tanstack/vue-query";
import { createPinia } from "pinia";
import { createApp } from "vue";
import { queries } from "./api/client";
import App from "./App.vue";
import { controls } from "./controls";
import { first } from "./lib/first";
import { router } from "./router";
import "./styles/tokens.css";
import "./styles/base.css";
import "./styles/controls.css";

createApp(App)
  .use(createPinia())
  .use(VueQueryPlugin, { queryClient: queries })
  .use(controls)
  .use(router)
  .directive("first", first)
  .mount("#app");
