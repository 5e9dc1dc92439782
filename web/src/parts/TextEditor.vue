<script setup lang="ts">
import { yaml } from "@codemirror/lang-yaml";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorView, basicSetup } from "codemirror";
import { onMounted, onUnmounted, ref, watch } from "vue";

/**
 * YAML with line numbers; what is wrong is marked at its line. Tab leaves the editor, so that nobody is
 * caught in it.
 */
const props = defineProps<{
  modelValue: string;
  marks: { line: number; sentence: string }[];
  label: string;
}>();
const emit = defineEmits<{ "update:modelValue": [text: string] }>();
const home = ref<HTMLElement | null>(null);
let view: EditorView | undefined;

function mark() {
  if (!view) return;
  const found: Diagnostic[] = props.marks
    .filter((m) => m.line >= 1 && m.line <= view!.state.doc.lines)
    .map((m) => {
      const line = view!.state.doc.line(m.line);
      return { from: line.from, to: line.to, severity: "error", message: m.sentence };
    });
  view.dispatch(setDiagnostics(view.state, found));
}
onMounted(() => {
  view = new EditorView({
    parent: home.value!,
    doc: props.modelValue,
    extensions: [
      basicSetup,
      yaml(),
      lintGutter(),
      EditorView.contentAttributes.of({ "aria-label": props.label }),
      EditorView.updateListener.of((update) => {
        if (update.docChanged && !update.transactions.some((t) => t.isUserEvent("set")))
          emit("update:modelValue", update.state.doc.toString());
      }),
    ],
  });
  view.scrollDOM.tabIndex = 0; // scrolled by key, whether or not its text can be written in
  mark();
});
onUnmounted(() => view?.destroy());
watch(
  () => props.modelValue,
  (now) => {
    if (view && now !== view.state.doc.toString())
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now }, userEvent: "set" });
  },
);
watch(() => props.marks, mark);
</script>

<template><div ref="home" class="editor" /></template>

<style scoped>
.editor {
  min-height: 0;
  height: 100%;
  border: 1px solid var(--edge);
  background: var(--sheet);
  overflow: hidden;
}
.editor :deep(.cm-editor) {
  height: 100%;
  font-size: var(--t-s);
  color: var(--ink);
  background: var(--sheet);
}
.editor :deep(.cm-scroller) {
  font-family: var(--mono);
  line-height: 1.45;
}
.editor :deep(.cm-gutters) {
  background: var(--well);
  color: var(--soft);
  border-right: 1px solid var(--rule2);
}
.editor :deep(.cm-activeLine),
.editor :deep(.cm-activeLineGutter) {
  background: color-mix(in srgb, var(--slate-pale) 40%, transparent);
}
.editor :deep(.cm-cursor) {
  border-left-color: var(--ink);
}
.editor :deep(.cm-content) {
  caret-color: var(--ink);
}
.editor :deep(.cm-selectionBackground) {
  background: var(--slate-pale) !important;
}
.editor :deep(.cm-tooltip) {
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--ink);
}
.editor :deep(.cm-line span) {
  color: inherit;
} /* hues have meanings here; keys and values tell themselves apart by their place */
</style>
