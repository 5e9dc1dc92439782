import { defineStore } from "pinia";
import { ref, watch } from "vue";

/** State of the screen only: theme, yard drawer, single keys. Kept in this browser. */
export const useScreen = defineStore("screen", () => {
  const night = ref(localStorage.getItem("night") === "yes");
  const singleKeys = ref(localStorage.getItem("single-keys") !== "off");
  const yardOpen = ref(false);
  const keysOpen = ref(false);
  const lens = ref<"fullness" | "work">("fullness");
  watch(night, (on) => localStorage.setItem("night", on ? "yes" : "no"));
  watch(singleKeys, (on) => localStorage.setItem("single-keys", on ? "on" : "off"));
  return { night, singleKeys, yardOpen, keysOpen, lens };
});
