/** Formats that rows are written in as plain files, and the options of each. */
import { LakeError } from '../errors';

export const FILE_FORMATS = ['parquet', 'csv', 'jsonl', 'avro'] as const;
export type FileFormat = (typeof FILE_FORMATS)[number];

export interface FileKind {
  format: FileFormat;
  compression: string;
  /** Of CSV: names of the columns stand in the first line. */
  header: boolean;
  /** Of CSV: between fields. */
  delimiter: string;
}

/** The first is taken where none is said. */
export const COMPRESSIONS: Record<FileFormat, readonly string[]> = { parquet: ['zstd', 'snappy', 'gzip', 'none'], csv: ['none', 'gzip'], jsonl: ['none', 'gzip'], avro: ['deflate', 'none'] };

export const FILE_KIND_OPTIONS = ['format', 'compression', 'header', 'delimiter'] as const;

export function readFileKind(options: Readonly<Record<string, string>>): FileKind {
  const wanted = (options.format ?? 'parquet').toLowerCase();
  const format = FILE_FORMATS.find((each) => each === wanted || (each === 'jsonl' && ['json', 'json lines'].includes(wanted)));
  if (!format) throw new LakeError('bad-request', `Files are written as ${FILE_FORMATS.join(', ')}, not as "${options.format}".`);
  const compression = options.compression?.toLowerCase() ?? COMPRESSIONS[format][0]!;
  if (!COMPRESSIONS[format].includes(compression)) throw new LakeError('bad-request', `The compression of ${format} files is one of ${COMPRESSIONS[format].join(', ')}, not "${options.compression}".`);
  for (const option of ['header', 'delimiter']) if (options[option] !== undefined && format !== 'csv') throw new LakeError('bad-request', `"${option}" is for CSV files; these are ${format}.`);
  const delimiter = options.delimiter === undefined ? ',' : options.delimiter === 'tab' ? '\t' : options.delimiter;
  if (delimiter.length !== 1 || '"\r\n'.includes(delimiter)) throw new LakeError('bad-request', `The delimiter is one character (or the word tab), not "${options.delimiter}".`);
  return { format, compression, delimiter, header: readBoolean(options.header, 'header', true) };
}

function readBoolean(text: string | undefined, option: string, otherwise: boolean): boolean {
  if (text === undefined) return otherwise;
  if (!/^(true|false)$/i.test(text)) throw new LakeError('bad-request', `"${option}" is true or false, not "${text}".`);
  return text.toLowerCase() === 'true';
}

/** With the dot, as readers here and elsewhere expect it. */
export function extensionOf({ format, compression }: FileKind): string {
  const name = { parquet: '.parquet', csv: '.csv', jsonl: '.jsonl', avro: '.avro' }[format];
  return format !== 'parquet' && compression === 'gzip' ? `${name}.gz` : name;
}
