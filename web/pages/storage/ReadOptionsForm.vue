<script setup lang="ts">
/** How a file is read, all of it open to change; what is looked at follows at once. */
import { computed, ref, watch } from 'vue';
import { parseRuler, rulerText } from '../../../core/folder/column-ruler';
import { fullOptions, type CsvOptions, type FixedOptions, type JsonOptions, type PatternOptions, type ReadFormat, type ReadOptions, type XmlOptions } from '../../../core/folder/read-options';
import CheckField from '../../design/CheckField.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import ColumnRuler from './ColumnRuler.vue';
import { DELIMITERS, ENCODINGS, FORMATS, lineForms, PACKINGS, SHAPES, SYNTAXES, withChosen } from './reading-words';

const options = defineModel<ReadOptions>({ required: true });
const props = defineProps<{ lines: readonly string[] }>();
type Values = CsvOptions | FixedOptions | PatternOptions;

const values = computed(() => (['csv', 'fixed', 'pattern'].includes(options.value.format) ? (options.value as Values) : undefined));
const text = computed(() => values.value ?? (options.value.format === 'json' ? (options.value as JsonOptions) : undefined));
const change = (more: Partial<Record<string, unknown>>) => (options.value = { ...options.value, ...more } as ReadOptions);

const format = computed({
  get: () => options.value.format,
  // What both have in common is kept.
  set: (next: ReadFormat) => {
    const { compression } = options.value as CsvOptions;
    const shared = values.value && ['csv', 'fixed', 'pattern'].includes(next) ? { encoding: values.value.encoding, skip: values.value.skip, comment: values.value.comment, nullTexts: values.value.nullTexts, decimal: values.value.decimal } : {};
    const start = next === 'fixed' ? { columns: [{ name: 'field_1', from: 1, to: Math.max(1, ...props.lines.map((line) => line.length)) }] } : {};
    options.value = fullOptions({ format: next, ...(compression ? { compression } : {}), ...shared, ...start });
  },
});
const field = <T,>(name: string) => computed({ get: () => (options.value as unknown as Record<string, T>)[name]!, set: (value: T) => change({ [name]: value }) });
const delimiter = field<string>('delimiter');
const quote = field<string>('quote');
const comment = field<string>('comment');
const decimal = field<string>('decimal');
const dateFormat = field<string>('dateFormat');
const timestampFormat = field<string>('timestampFormat');
const encoding = field<string>('encoding');
const compression = field<string>('compression');
const misfits = field<string>('misfits');
const shape = field<string>('shape');
const syntax = field<string>('syntax');
const at = field<string>('at');
const key = field<string>('key');
const perFile = field<boolean>('perFile');
const pads = field<boolean>('pads');
const record = field<string>('record');
const wholeNumber = (name: string, least: number) => computed({ get: () => String((options.value as unknown as Record<string, number>)[name] ?? least), set: (count) => change({ [name]: Math.max(least, Math.floor(Number(count)) || least) }) });
const headerLines = wholeNumber('headerLines', 1);
const skipEnd = wholeNumber('skipEnd', 0);
const names = computed({ get: () => ((options.value as JsonOptions).names ?? []).join(', '), set: (list) => change({ names: list.split(',').map((each) => each.trim()).filter(Boolean) }) });
const pattern = field<string>('pattern');
const header = field<boolean>('header');
const skip = computed({ get: () => String(values.value?.skip ?? 0), set: (count) => change({ skip: Math.max(0, Math.floor(Number(count)) || 0) }) });
const nullTexts = computed({ get: () => (values.value?.nullTexts ?? []).filter((each) => each !== '').join(', '), set: (list) => change({ nullTexts: ['', ...list.split(',').map((each) => each.trim()).filter(Boolean)] }) });

/** The ruler as text is taken when it is understood; until then it says what is wrong. */
const ruler = ref('');
const rulerProblem = ref('');
watch(options, (now) => now.format === 'fixed' && rulerProblem.value === '' && (ruler.value = rulerText(now.columns)), { immediate: true });
function takeRuler(): void {
  try {
    change({ columns: parseRuler(ruler.value) });
    rulerProblem.value = '';
  } catch (error) {
    rulerProblem.value = (error as Error).message;
  }
}
const delimiters = computed(() => (DELIMITERS.some((each) => each.value === delimiter.value) ? DELIMITERS : [...DELIMITERS, { value: delimiter.value, words: `“${delimiter.value}”` }]));
</script>

<template>
  <form class="grid grid-cols-[repeat(auto-fill,minmax(132px,1fr))] gap-x-3 gap-y-2" aria-label="How the file is read" @submit.prevent>
    <SelectField v-model="format" label="Read as" :choices="FORMATS" />
    <SelectField v-if="options.format === 'csv'" v-model="delimiter" label="Between fields" :choices="delimiters" />
    <template v-if="options.format === 'json'">
      <SelectField v-model="syntax" label="Written as" :choices="SYNTAXES" />
      <SelectField v-if="options.syntax !== 'pairs'" v-model="shape" label="Objects" :choices="SHAPES" />
      <TextField v-if="!['lines', 'sequence'].includes(options.shape)" v-model="at" mono label="Rows stand under" placeholder="/data/items" />
      <TextField v-if="options.shape === 'keyed'" v-model="key" mono label="Column of the key" />
      <TextField v-if="options.shape === 'cells'" v-model="names" mono label="Names of the cells" placeholder="id, name" />
    </template>
    <SelectField v-if="options.format === 'pattern'" v-model="pattern" label="Lines of the form" :choices="lineForms(options.pattern)" />
    <TextField v-if="options.format === 'xml'" v-model="record" mono label="Element that is a row" :placeholder="(options as XmlOptions).record || 'as found'" />
    <template v-if="values">
      <TextField v-model="nullTexts" mono label="Texts for missing" placeholder="n/a, -" />
      <SelectField v-model="decimal" label="Decimal mark" :choices="[{ value: '.', words: 'point' }, { value: ',', words: 'comma' }]" />
      <TextField v-model="skip" mono label="Lines to skip first" />
      <TextField v-model="comment" mono label="Comment lines begin" placeholder="#" />
      <TextField v-model="dateFormat" mono label="Dates" placeholder="%d.%m.%Y" />
      <TextField v-model="timestampFormat" mono label="Times" placeholder="%d.%m.%Y %H:%M" />
      <template v-if="options.format === 'csv'">
        <TextField v-model="quote" mono label="Quote" placeholder="none" />
        <TextField v-if="options.header" v-model="headerLines" mono label="Lines of the header" />
        <TextField v-model="skipEnd" mono label="Lines below the table" />
      </template>
    </template>
    <SelectField v-if="text" v-model="encoding" label="Encoding" :choices="withChosen(ENCODINGS, encoding)" />
    <SelectField v-if="'compression' in options" v-model="compression" label="Packed" :choices="PACKINGS" />
    <SelectField v-if="text" v-model="misfits" label="Lines that do not fit" :choices="[{ value: 'stop', words: 'stop the query' }, { value: 'set-aside', words: 'are set aside' }]" />
    <span v-if="options.format === 'csv' || options.format === 'fixed'" class="flex items-end pb-1"><CheckField v-model="header" label="First line is a header" /></span>
    <template v-if="options.format === 'csv'"><span class="flex items-end pb-1"><CheckField v-model="pads" label="Shorter lines are filled up" /></span><span class="flex items-end pb-1"><CheckField v-model="perFile" label="Each file in its own way" /></span></template>
    <label v-if="options.format === 'pattern'" class="col-span-full grid gap-0.5"><span class="text-muted">Regular expression for a whole line; each named group <code>(?&lt;name&gt;…)</code> is a column</span><textarea v-model="pattern" rows="2" class="mono w-full border border-rule bg-card px-2 py-1" spellcheck="false"></textarea></label>
    <template v-if="options.format === 'fixed'">
      <label class="col-span-full grid gap-0.5"><span class="text-muted">Columns by their first and last character</span><input v-model="ruler" class="mono h-[29px] w-full border border-rule bg-card px-2" spellcheck="false" :aria-invalid="rulerProblem !== ''" @change="takeRuler" @keydown.enter.prevent="takeRuler"><span v-if="rulerProblem" role="alert" class="text-rust">{{ rulerProblem }}</span></label>
      <ColumnRuler class="col-span-full" :lines="lines" :columns="options.columns" @change="(columns) => change({ columns })" />
    </template>
  </form>
</template>
