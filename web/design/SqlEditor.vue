<script setup lang="ts">
/** The editor: SQL with completion of the catalog's names; a problem is marked at its place in the text. */
import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { PostgreSQL, sql, type SQLNamespace } from '@codemirror/lang-sql';
import { bracketMatching, HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { setDiagnostics } from '@codemirror/lint';
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search';
import { Compartment, EditorState, Prec } from '@codemirror/state';
import { drawSelection, EditorView, keymap, lineNumbers, placeholder } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { onMounted, onUnmounted, ref, watch } from 'vue';

const model = defineModel<string>({ required: true });
const props = withDefaults(defineProps<{ names: SQLNamespace; problem: { message: string; position: number } | undefined; label?: string; hint?: string }>(), { label: 'Query text', hint: 'SELECT … FROM namespace.table. Earlier states: FOR SYSTEM_VERSION AS OF 8, or FOR SYSTEM_TIME AS OF TIMESTAMP \'2026-03-14 06:00\'' });
const emit = defineEmits<{ run: [] }>();
const host = ref<HTMLElement>();
const language = new Compartment();
let view: EditorView | undefined;

const colours = HighlightStyle.define([
  { tag: tags.keyword, color: 'var(--tide)', fontWeight: '600' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--kelp)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--dusk)' },
  { tag: [tags.comment, tags.lineComment, tags.blockComment], color: 'var(--muted)', fontStyle: 'italic' },
  { tag: tags.typeName, color: 'var(--dusk)' },
]);
const look = EditorView.theme({
  '&': { height: '100%', fontSize: '12.5px', backgroundColor: 'transparent', color: 'var(--ink)' },
  '.cm-scroller': { fontFamily: 'var(--font-mono, "JetBrains Mono Variable"), monospace', fontVariantLigatures: 'none', lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'transparent', color: 'var(--muted)', border: 'none', paddingLeft: '6px' },
  '.cm-content': { caretColor: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused': { outline: 'none' },
  '.cm-selectionBackground, &.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground': { backgroundColor: 'var(--tide-soft)' },
  '.cm-tooltip': { backgroundColor: 'var(--card)', border: '1px solid var(--ink)', color: 'var(--ink)' },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': { backgroundColor: 'var(--tide)', color: 'var(--on-strong)' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--rust)' },
});

const languageOf = () => sql({ dialect: PostgreSQL, schema: props.names, upperCaseKeywords: true });

onMounted(() => {
  view = new EditorView({
    parent: host.value!,
    state: EditorState.create({
      doc: model.value,
      extensions: [
        lineNumbers(), history(), drawSelection(), bracketMatching(), closeBrackets(), autocompletion(), highlightSelectionMatches(),
        syntaxHighlighting(colours), look, language.of(languageOf()), EditorView.lineWrapping,
        placeholder(props.hint),
        EditorView.contentAttributes.of({ 'aria-label': props.label }),
        Prec.highest(keymap.of([{ key: 'Mod-Enter', run: () => (emit('run'), true) }])),
        keymap.of([...closeBracketsKeymap, ...completionKeymap, ...searchKeymap, ...historyKeymap, ...defaultKeymap]),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) model.value = update.state.doc.toString();
        }),
      ],
    }),
  });
});
onUnmounted(() => view?.destroy());

watch(model, (text) => {
  if (view && view.state.doc.toString() !== text) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
});
watch(() => props.names, () => view?.dispatch({ effects: language.reconfigure(languageOf()) }));
watch(() => props.problem, (problem) => {
  if (!view) return;
  const length = view.state.doc.length;
  const from = Math.min(problem?.position ?? 0, length);
  const word = /^[\w.]+/.exec(view.state.doc.sliceString(from))?.[0].length ?? 1;
  view.dispatch(setDiagnostics(view.state, problem ? [{ from: from === length ? Math.max(0, length - 1) : from, to: Math.min(length, from + word), severity: 'error', message: problem.message }] : []));
});

/** Puts text where the cursor is. */
function insert(text: string): void {
  if (!view) return;
  view.dispatch(view.state.replaceSelection(text));
  view.focus();
}
defineExpose({ insert });
</script>

<template>
  <div ref="host" class="min-h-0 overflow-hidden"></div>
</template>
