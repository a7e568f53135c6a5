/** The choices of reading files, in words. */
import type { Compression, JsonOptions, ReadFormat } from '../../../core/folder/read-options';
import { LOG_FORMS } from '../../../core/text/log-lines';

export const FORMATS: readonly { value: ReadFormat; words: string }[] = [
  { value: 'csv', words: 'delimited text' }, { value: 'fixed', words: 'fixed width' }, { value: 'pattern', words: 'lines by a pattern' }, { value: 'json', words: 'JSON' }, { value: 'xml', words: 'XML' }, { value: 'avro', words: 'Avro' }, { value: 'arrow', words: 'Arrow' }, { value: 'parquet', words: 'Parquet' },
];
export const DELIMITERS: readonly { value: string; words: string }[] = [
  { value: ',', words: 'comma' }, { value: '|', words: 'pipe' }, { value: ';', words: 'semicolon' }, { value: '\t', words: 'tab' }, { value: ' ', words: 'space' }, { value: ':', words: 'colon' }, { value: '~', words: 'tilde' },
];
export const ENCODINGS: readonly { value: string; words: string }[] = [
  { value: 'utf-8', words: 'UTF-8' }, { value: 'windows-1252', words: 'Windows-1252 (Latin)' }, { value: 'iso-8859-1', words: 'ISO 8859-1' }, { value: 'iso-8859-15', words: 'ISO 8859-15' }, { value: 'windows-1251', words: 'Windows-1251 (Cyrillic)' },
  { value: 'utf-16le', words: 'UTF-16' }, { value: 'shift_jis', words: 'Shift JIS' }, { value: 'gb18030', words: 'GB 18030' }, { value: 'euc-kr', words: 'EUC-KR' },
];
export const PACKINGS: readonly { value: Compression; words: string }[] = [
  { value: 'none', words: 'not packed' }, { value: 'gzip', words: 'gzip' }, { value: 'zstd', words: 'zstd' }, { value: 'bzip2', words: 'bzip2' }, { value: 'xz', words: 'xz' }, { value: 'lz4', words: 'LZ4' }, { value: 'snappy', words: 'Snappy' }, { value: 'auto', words: 'each as it is' },
];
export const SHAPES: readonly { value: JsonOptions['shape']; words: string }[] = [
  { value: 'lines', words: 'one a line' }, { value: 'array', words: 'in one array' }, { value: 'sequence', words: 'one after the other' }, { value: 'keyed', words: 'members, by key' }, { value: 'cells', words: 'lists of cells' }, { value: 'features', words: 'GeoJSON features' }, { value: 'values', words: 'bare values' },
];
export const SYNTAXES: readonly { value: JsonOptions['syntax']; words: string }[] = [{ value: 'json', words: 'JSON' }, { value: 'yaml', words: 'YAML' }, { value: 'pairs', words: 'key=value lines' }];

/** Known forms of lines, and the one at hand where it is another. */
export function lineForms(pattern: string): { value: string; words: string }[] {
  const known = LOG_FORMS.map((form) => ({ value: form.pattern, words: form.name }));
  return known.some(({ value }) => value === pattern) ? known : [{ value: pattern, words: 'by the expression below' }, ...known];
}

/** The choices, with what is chosen where it is none of them. */
export function withChosen(choices: readonly { value: string; words: string }[], chosen: string): { value: string; words: string }[] {
  return choices.some(({ value }) => value === chosen) || chosen === '' ? [...choices] : [...choices, { value: chosen, words: chosen }];
}

export const TYPES = ['varchar', 'bigint', 'integer', 'double', 'decimal(18,2)', 'boolean', 'date', 'timestamp', 'timestamptz', 'time', 'uuid'] as const;
