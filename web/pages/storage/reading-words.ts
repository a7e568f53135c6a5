/** The choices of reading files, in words. */
import type { ReadFormat } from '../../../core/folder/read-options';

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
export const TYPES = ['varchar', 'bigint', 'integer', 'double', 'decimal(18,2)', 'boolean', 'date', 'timestamp', 'timestamptz', 'time', 'uuid'] as const;
