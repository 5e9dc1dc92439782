<script setup lang="ts">
import { computed, defineAsyncComponent, onMounted, onUnmounted, reactive, ref, watchEffect } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useTheme } from "vuetify";
import { useBarn, useNews } from "./api/client";
import { typing } from "./lib/keys";
import TapeBar from "./parts/TapeBar.vue";
import { SECTIONS, sectionOf } from "./lib/sections";
import { useScreen } from "./screen";

// What lies above the page comes when it is first asked for: the page itself need not wait for it.
const KeysSheet = defineAsyncComponent(() => import("./parts/KeysSheet.vue"));
const YardDrawer = defineAsyncComponent(() => import("./parts/YardDrawer.vue"));
const PlanSheet = defineAsyncComponent(() => import("./views/plan/PlanSheet.vue"));
// It comes once the page is there, or as soon as somebody wants it; a button of its looks stands in for it.
const FindBox = defineAsyncComponent(() => import("./parts/FindBox.vue"));
const asked = reactive({ keys: false, yard: false, plan: false, find: false });
/** What was typed while the box for it was on its way. */
const begun = ref("");
const findsNow = ref(false);
const found = ref(false);

const screen = useScreen();
const route = useRoute();
const router = useRouter();
const theme = useTheme();
const connected = useNews();
const { data: barn } = useBarn();
const section = computed(() => sectionOf(route.path));

watchEffect(() => {
  asked.keys ||= screen.keysOpen;
  asked.yard ||= screen.yardOpen;
  asked.plan ||= Boolean(route.query.plan);
});
watchEffect(() => {
  document.documentElement.dataset.theme = screen.night ? "night" : "day";
  theme.change(screen.night ? "night" : "day");
});
watchEffect(() => {
  const shown = SECTIONS.find((s) => s.path === section.value);
  document.title = `${shown?.name ?? "Fold Barn"} · ${barn.value?.name ?? "Fold Barn"}`;
});

function find() {
  if (found.value) document.querySelector<HTMLInputElement>(".find input")?.focus();
  else {
    asked.find = findsNow.value = true;
    // Should it not come, the keys are the page's again.
    setTimeout(() => (findsNow.value = found.value), 5000);
  }
}

function onKey(event: KeyboardEvent) {
  const types = event.key.length === 1 && !event.ctrlKey && !event.metaKey && !event.altKey;
  if (findsNow.value && !found.value && types) {
    begun.value += event.key;
    event.preventDefault();
    return;
  }
  if (event.altKey && event.code === "KeyN") {
    event.preventDefault();
    screen.night = !screen.night;
    return;
  }
  if (typing(event) || !screen.singleKeys || route.query.plan) return;
  const number = Number(event.key);
  if (number >= 1 && number <= SECTIONS.length) void router.push(SECTIONS[number - 1]!.path);
  else if (event.key === "/") find();
  else if (event.key === "?") screen.keysOpen = true;
  else if (event.key === "t") document.querySelector<HTMLElement>(".tape a")?.focus();
  else if (event.key === "y" && barn.value?.yard) screen.yardOpen = !screen.yardOpen;
  else if (event.key === "p")
    (
      document.querySelector<HTMLElement>("[data-offered]") ??
      document.querySelector<HTMLElement>(".headline .btn")
    )?.click();
  else return;
  event.preventDefault();
}
/** The page comes first: what it asks for is on its way by the time the browser has nothing else to do. */
function whenIdle(work: () => void) {
  if ("requestIdleCallback" in window) window.requestIdleCallback(work, { timeout: 3000 });
  else setTimeout(work, 500);
}
onMounted(() => window.addEventListener("keydown", onKey));
onMounted(() => void router.isReady().then(() => setTimeout(() => whenIdle(() => (asked.find = true)), 400)));
onUnmounted(() => window.removeEventListener("keydown", onKey));
</script>

<template>
  <VApp>
    <header class="top">
      <RouterLink class="brand" to="/" aria-label="Fold Barn">
        <svg viewBox="0 0 24 24" aria-hidden="true">
          <path d="M2 9.6 12 2.4V21.6L2 18.8Z" fill="var(--barn)" />
          <path d="M12 2.4 22 9.6V21.6L12 18.4Z" fill="var(--hay)" />
          <path d="M12 2.4V21.6" stroke="var(--sheet)" stroke-width="1" />
        </svg>
        <b>Fold Barn</b>
      </RouterLink>
      <span class="site">{{ barn?.name }}</span>
      <nav class="words" aria-label="Sections">
        <RouterLink
          v-for="s in SECTIONS"
          :key="s.path"
          :to="s.path"
          :aria-current="s.path === section ? 'page' : undefined"
        >
          {{ s.name }}
          <svg v-if="s.path === section" viewBox="0 0 30 10" aria-hidden="true">
            <path d="M0 10 15 1 30 10Z" fill="var(--paper)" />
            <path d="M0 9.4 15 1 30 9.4" fill="none" stroke="var(--ink)" stroke-width="1.6" />
          </svg>
        </RouterLink>
      </nav>
      <span class="grow" />
      <VBtn v-if="barn?.yard" class="tool" aria-haspopup="dialog" @click="screen.yardOpen = true">
        Yard
      </VBtn>
      <VBtn class="tool" title="How this screen looks" @click="screen.night = !screen.night">
        {{ screen.night ? "Day" : "Night" }}
      </VBtn>
      <VBtn class="tool" aria-label="Keys" @click="screen.keysOpen = true">Keys</VBtn>
      <span class="finding">
        <VBtn v-if="!found" class="finds" aria-keyshortcuts="/" @click="find">
          <span>Find a disk, volume, node</span><kbd>/</kbd>
        </VBtn>
        <FindBox v-if="asked.find" :begun="begun" :now="findsNow" @ready="found = true" />
      </span>
      <span class="who" title="Who changes are recorded for">{{ barn?.operator }}</span>
    </header>
    <RouterView v-slot="{ Component }"
      ><component :is="Component" v-if="Component" :key="route.path" />
      <main v-else class="page"
    /></RouterView>
    <TapeBar :connected="connected" />
    <PlanSheet v-if="asked.plan" />
    <YardDrawer v-if="asked.yard" />
    <KeysSheet v-if="asked.keys" />
  </VApp>
</template>

<style scoped>
.top {
  display: flex;
  align-items: stretch;
  padding: 0 16px;
  background: var(--sheet);
  box-shadow: inset 0 -1px 0 var(--rule2);
  min-width: 0;
}
.brand {
  display: flex;
  align-items: center;
  gap: 9px;
  padding-right: 18px;
}
.brand svg {
  width: 24px;
  height: 24px;
}
.brand b {
  font-weight: 720;
  font-size: 16px;
  letter-spacing: -0.01em;
  white-space: nowrap;
}
.site {
  display: flex;
  align-items: center;
  padding: 0 18px 0 16px;
  position: relative;
  color: var(--soft);
  white-space: nowrap;
}
.site::before {
  content: "";
  position: absolute;
  left: 0;
  top: 13px;
  bottom: 13px;
  width: 1px;
  background: var(--rule2);
}
.words {
  display: flex;
  align-items: stretch;
}
.words a {
  display: flex;
  align-items: center;
  padding: 0 11px;
  position: relative;
  color: var(--soft);
  font-weight: 500;
}
.words a:hover {
  color: var(--ink);
}
.words a[aria-current] {
  color: var(--ink);
  font-weight: 700;
}
.words a svg {
  position: absolute;
  left: 50%;
  bottom: 0;
  width: 30px;
  height: 10px;
  transform: translateX(-50%);
}
.tool {
  color: var(--soft);
  font-size: var(--t-s);
  padding: 0 8px;
}
.tool:hover {
  color: var(--ink);
  text-decoration: underline;
  text-underline-offset: 4px;
}
.finding {
  align-self: center;
  width: 228px; /* its place is kept while it comes */
}
/* As the box looks that it stands in for. */
.finds {
  margin-left: 8px;
  width: 220px;
  min-height: 30px;
  padding: 0 5px 0 7px;
  border: 1px solid var(--rule3, var(--soft));
  border-radius: 3px;
  background: var(--sheet);
  color: var(--soft);
  font-size: var(--t-m);
}
.finds :deep(.v-btn__content) {
  flex: 1;
  overflow: hidden;
}
.finds span {
  flex: 1;
  overflow: hidden;
  text-align: left;
  text-overflow: ellipsis;
}
.who {
  display: flex;
  align-items: center;
  padding-left: 16px;
  color: var(--soft);
  white-space: nowrap;
  font-size: var(--t-s);
}
/* On a narrow screen the site and the operator, which stand elsewhere too, make room for what is pressed. */
@media (max-width: 1100px) {
  .site,
  .who {
    display: none;
  }
  .words a {
    padding: 0 8px;
  }
}
@media (max-width: 1000px) {
  .finding {
    width: 150px;
  }
  .finds {
    width: 142px;
  }
  .words a {
    padding: 0 6px;
  }
  .tool {
    padding: 0 5px;
  }
}
</style>
